package contract

// Descriptions say what the properties of core's types are that travel as they are, for the OpenAPI document: by
// package, type and property. The types of this package carry theirs in a tag.
var Descriptions = map[string]string{
	"calendar.Holiday.date": "such as 2027-05-17",
	"cert.Facts.name":       "what people call it",
	"cert.Facts.uses": "what its key may be used for: key usage and extended key usage (RFC 5280, " +
		"4.2.1.3 and 4.2.1.12)",
	"cert.Facts.refused":         "why strict readers refuse it",
	"cert.Endorsement.old":       "DER of the certificate that was served before",
	"cert.Endorsement.signature": "by the old certificate's key",
	"finding.Finding.actions":    "what a person can do about it",
	"judge.Closer.second": "fingerprints of the chain that clients get which take the other kind of " +
		"key alone, leaf first",
	"judge.Closer.clock_ahead_seconds": "how far the box's clock is ahead; negative: behind",
	"judge.Closer.staple":              "what the stapled OCSP response says",
	"judge.Closer.staple_failed":       "why that response cannot be used",
	"judge.Other.node":                 "the node whose address it is",
	"judge.Other.sha256":               "of the leaf",
	"next.Action.about":                "the name or id of what it is done to; of a slot: DEVICE/SLOT",
	"next.Action.what":                 "of add-root: the SHA-256 of the root, where it is known here",
	"notice.Item.slot":                 "DEVICE/SLOT; empty: it is about something else",
	"notice.Item.what":                 "what expires, where it is no slot",
	"notice.Item.stage":                "a condition, or the days that are left",
	"notice.Item.subject":              "of the certificate",
	"notice.Item.next":                 "what to do",
	"notice.Item.reminders":            "how many were sent before",
	"notice.Item.replacement":          "the sealed replacement after which the slot changed; it can be reverted",
	"notice.Rule.conditions":           "a slot that has one of these",
	"notice.Rule.days": "a slot whose certificate expires within that many days, a stage for " +
		"each number",
	"notice.Rule.expiring": "tell of intermediates, roots, validations of domains, tokens and " +
		"calendars that expire within these days, instead of slots",
	"notice.Rule.to":            "channels",
	"notice.Rule.digest":        "once a day at this time, such as 07:30, what came together; empty: at once",
	"notice.Rule.quiet":         "hours in which nothing is sent, such as 22:00-06:00",
	"notice.Rule.zone":          "time zone of these hours, such as Europe/Oslo; empty: UTC",
	"notice.Rule.repeat_days":   "reminders, as long as nothing changes and nobody acknowledges; 0: none",
	"notice.Rule.escalate":      "channels that reminders go to as well",
	"notice.Rule.recovery":      "notify when it has ended",
	"policy.Rules.renewal_days": "how long before its end a certificate is due",
	"policy.Rules.margin_days":  "safety margin before expiry",
	"policy.Rules.read_minutes": "how often a slot is read; more often from the day on which it is due, and " +
		"after a replacement",
	"policy.Rules.turnaround_days":   "how long the signer takes",
	"policy.Rules.max_lifetime_days": "of a leaf; 0: any",
	"policy.Rules.approval":          "who must approve before a device is changed; another: not who asked for it",
	"policy.Rules.keep_keys":         "keys that Fresh Seal made stay sealed here after they were given away",
	"policy.Rules.keep_signed_days": "how long a signed chain and its key are kept for another try after a " +
		"replacement went back; 30 where nothing is said",
	"policy.Rules.required_names": "that every leaf must have",
	"policy.Rules.signer":         "default signer; its turnaround counts for act-by dates",
	"policy.Rules.key":            "kind of key where none is named; empty: the first that the family makes",
	"policy.Rules.renewal_key": "whether a replacement makes a new key, or uses the one in use again where " +
		"the family can",
	"policy.Rules.old_subject": "requests take the subject of today's certificate over; where nothing is " +
		"said, they do",
	"policy.Rules.check_revocation": "ask the OCSP responders and fetch the revocation lists that certificates name",
	"policy.Rules.weak_keys": "of a device alone: it can do no better than RSA 1024 and SHA-1, which " +
		"stays a finding",
	"policy.Rules.short_names":   "requests ask for the first label of each name too",
	"policy.Rules.address_names": "requests ask for the addresses of device and slot too",
	"policy.Rules.cluster_names": "requests ask for the name of the cluster and those of the other members too",
	"policy.Rules.name_prefixes": "labels of services: requests ask for each in the domain of the slot's " +
		"name too, and in the service domains",
	"policy.Rules.service_domains": "domains that services answer for: requests ask for each with the name " +
		"prefixes, or for the domain itself where there are none",
	"policy.Rules.node_wildcard": "requests ask for a wildcard instead of the names of nodes, where the " +
		"signer allows it",
	"policy.Rules.windows": "when devices may be touched: DTSTART, DURATION and RRULE (RFC 5545); " +
		"none: at any time. What nothing live needs is done before",
	"policy.Rules.freezes": "when no device may be touched: FROM/UNTIL and a reason; those of fleet, " +
		"site and device add up",
	"policy.Rules.keep_holidays": "no device is touched on the holidays of its site",
	"policy.Rules.root_pins_first": "a replacement under another root waits until those who pinned the root " +
		"have confirmed that they trust the new one",
	"procedure.Fault.warning":        "the procedure can be used all the same",
	"rehearsal.Rehearsed.undo":       "how the change is taken back",
	"rehearsal.Rehearsed.when":       "of a step of the way back: what must be seen for it to be sent",
	"rehearsal.Rehearsed.finally":    "done on every way out once the step was started",
	"rehearsal.Rehearsed.repeat":     "may be done again when nobody knows whether it was done",
	"rehearsal.Rehearsed.note":       "when the step is left out",
	"rehearsal.Rehearsed.difference": "what the step would change in the file as it is now, where that was read",
	"rehearsal.Told.link":            "over which it is done; empty: over none",
	"rehearsal.Told.when":            "only where this holds",
	"rehearsal.Told.undo":            "how it is taken back when something fails later",
	"rehearsal.Told.finally":         "done on every way out once the step was started",
	"request.Difference.field":       "of the subject; or names, or key",
	"request.Difference.demanded":    "the signer demands it, so the request does not leave",
	"request.Proof.how": "a mail to the domain, a record in its DNS, or a file on its web server; " +
		"empty: not at all",
	"request.Proof.who":       "who does it",
	"request.Proof.days":      "how long a proof holds; 0: for the parcel in hand alone",
	"request.Order.until":     "the last day, such as 2028-06-30",
	"request.Plan.client_use": "for TLS clients too: the device also connects to others with it",
	"request.Plan.same_key":   "the key that is in use is used again",
	"request.Plan.weak":       "the policy says that the device can do no better than RSA 1024 and SHA-1",
	"request.Plan.dropped": "fields of the subject that the device has no place for, with their " +
		"values; they are not asked for",
	"request.Plan.left_out":   "names that the policy would add and the signer will not sign, and why",
	"request.Plan.cautions":   "what earlier answers of the signer let expect of this request",
	"request.Plan.sources":    "where each name and each field of the subject came from",
	"request.Terms.public":    "publicly trusted: no name that only exists inside, no private address",
	"request.Terms.wildcards": "signs *.domain",
	"request.Terms.domains":   "the only domains under which it signs DNS names; none: any",
	"request.Terms.addresses": "signs IP addresses",
	"request.Terms.fields": "of the subject, that must be filled: organization, unit, locality, state, " +
		"country, email",
	"request.Terms.profile":       "the kind of certificate or of server to pick",
	"request.Terms.keys":          "that it signs; none: any",
	"revocation.Statement.reason": "as RFC 5280, 5.3.1, names it",
	"revocation.Statement.from":   "when this was known to be true",
	"revocation.Statement.until":  "when newer information is there",
	"discovery.Proposal.name":     "a name of its certificate that no other has, or the address",
	"discovery.Proposal.families": "which it looks like, the likeliest first",
	"discovery.Proposal.factory":  "it serves what it was delivered with",
}
