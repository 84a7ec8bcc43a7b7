package finding

import (
	"maps"
	"slices"

	"freshseal/core/next"
)

// Code names one kind of finding. It is in the API and never changes.
type Code string

// The codes, grouped as an administrator meets them.
const (
	Unreadable Code = "unreadable" // the slot could not be read

	ChangedAfterSeal Code = "changed-after-seal" // shortly after a replacement was sealed, the slot got worse

	SelfSigned      Code = "self-signed"      // nobody vouches for it but itself
	ChainIncomplete Code = "chain-incomplete" // a certificate of the path is missing
	ChainNotServed  Code = "chain-not-served" // known here, but the box does not send it
	ChainOrder      Code = "chain-order"      // served in an order that RFC 5246 forbids
	ChainSurplus    Code = "chain-surplus"    // served, and part of no path
	RootServed      Code = "root-served"      // clients have it or do not trust it
	AnchorUnknown   Code = "anchor-unknown"   // the path ends in a root that is not trusted

	FactoryDefault Code = "factory-default" // known as what devices are delivered with

	Expired         Code = "expired"
	NotYetValid     Code = "not-yet-valid"
	IssuerExpired   Code = "issuer-expired"
	IssuerEndsFirst Code = "issuer-ends-first"

	AddressDiffers Code = "address-differs" // another address of the slot serves something else

	OldProtocol       Code = "old-protocol"       // of TLS
	NotAgreed         Code = "handshake-partial"  // the chain was seen, and no handshake came to its end
	NameRefused       Code = "name-refused"       // the box refuses the slot's server name
	SupplicantRefuses Code = "supplicant-refuses" // clients of EAP are stricter than browsers
	ClientCertificate Code = "client-certificate" // the box asks clients for one

	ClockWrong        Code = "clock-wrong"        // of the box
	SecondCertificate Code = "second-certificate" // for clients that take another kind of key
	Revoked           Code = "revoked"
	RevocationUnknown Code = "revocation-unknown" // those who should say do not
	StapleUnusable    Code = "staple-unusable"    // the OCSP response that the box sends along

	NameMissing    Code = "name-missing"
	NameSurplus    Code = "name-surplus"
	NameUnsignable Code = "name-unsignable"

	NameLeadsElsewhere Code = "name-leads-elsewhere"
	CommonNameOnly     Code = "common-name-only"
	CommonNameElse     Code = "common-name-elsewhere"

	LifetimeTooLong  Code = "lifetime-too-long"
	LifetimeTooShort Code = "lifetime-too-short"

	IssuerUnexpected Code = "issuer-unexpected"   // another than the signer signs with
	AuthorityMarked  Code = "marked-as-authority" // a leaf that may sign others
	EndsBeforeOld    Code = "ends-before-old"     // the one that it replaces lives longer
	UseLost          Code = "use-lost"            // it is not for TLS clients any more
	TrustLost        Code = "trust-lost"          // clients that trust what is served now do not trust it

	WeakKey        Code = "weak-key"
	WeakHash       Code = "weak-hash"
	UsageWrong     Code = "usage-wrong"
	NotAuthority   Code = "not-an-authority"
	PathTooLong    Code = "path-too-long"
	NameNotAllowed Code = "name-not-allowed"
	UnknownRule    Code = "unknown-critical-extension"
	Malformed      Code = "malformed"
	SerialOdd      Code = "serial-odd"
	PolicyMissing  Code = "policy-missing"
	NoRevocation   Code = "no-revocation"

	KeyDiffers     Code = "key-differs"
	SubjectDiffers Code = "subject-differs"
	PlanInvalid    Code = "plan-invalid"
)

// doubtful are the codes of answers that clients would accept and a person must accept first.
var doubtful = []Code{LifetimeTooShort, IssuerUnexpected, AuthorityMarked, EndsBeforeOld, UseLost, TrustLost}

// Doubt reports whether a signer's answer with this finding waits until a person accepts it.
func (c Code) Doubt() bool { return slices.Contains(doubtful, c) }

// Codes returns all codes, in order.
func Codes() []Code { return slices.Sorted(maps.Keys(meanings)) }

// remedies are the actions that help, where one does.
var remedies = map[Code]next.Do{
	Unreadable: next.TryDevice, SelfSigned: next.Replace, ChainIncomplete: next.TakeIn, ChainNotServed: next.Replace,
	ChainOrder:    next.Replace,
	AnchorUnknown: next.AddRoot, FactoryDefault: next.Replace, Revoked: next.Replace, Expired: next.Replace,
	AddressDiffers: next.Replace, NameMissing: next.Replace, CommonNameOnly: next.Replace, CommonNameElse: next.Replace,
	WeakKey: next.Replace, WeakHash: next.Replace, UsageWrong: next.Replace, NameNotAllowed: next.Replace,
	Malformed: next.Replace, SerialOdd: next.Replace,
}

type meaning struct {
	severity    Severity
	why, remedy string
}

var meanings = map[Code]meaning{
	Unreadable: {Error, "the certificate and its expiry date are unknown",
		"check that the address and port are correct and reachable, then read the slot again"},

	ChangedAfterSeal: {Error, "the device took the certificate back, did not come through a restart, or was " +
		"changed by somebody",
		"see what happened on the device; a revert puts back what was there before the replacement"},

	SelfSigned: {Error, "every client shows a warning, and users get used to ignoring warnings",
		"replace the certificate"},
	ChainIncomplete: {Error, "clients that do not have the missing certificate reject the connection",
		"get the certificate of this issuer from the signer (public authorities publish their intermediates and " +
			"roots in a repository) and take it in"},
	ChainNotServed: {Error, "clients that do not know the intermediate reject the connection",
		"replace it, or add the intermediates to the certificate file that the device serves"},
	ChainOrder: {Warning, "old clients accept the chain only in order, each certificate signed by the next",
		"replace it, or sort the certificates: leaf first, then each issuer"},
	ChainSurplus: {Note, "it makes each handshake slightly larger and has no use",
		"remove it when the chain is next installed"},
	FactoryDefault: {Warning, "others have the same certificate or one that is made like it, and nobody vouches " +
		"for this device",
		"replace the certificate"},
	RootServed: {Note, "clients use the root that they have and ignore this one; it makes each handshake larger",
		"leave the root out when the chain is next installed, unless the device needs it in its file"},
	AnchorUnknown: {Error, "clients trust only chains that end in a root they have",
		"if you trust this root, add it to the roots of the fleet"},

	Expired: {Error, "clients reject an expired certificate", "replace it now"},
	NotYetValid: {Error, "clients reject it until it becomes valid",
		"check the clocks, or wait until it becomes valid"},
	IssuerExpired: {Error, "the chain is invalid as soon as one of its certificates has expired",
		"ask the signer for the current intermediate"},
	IssuerEndsFirst: {Warning, "the chain becomes invalid before the leaf expires",
		"plan the next replacement by the earlier date"},

	AddressDiffers: {Error, "clients get another certificate, depending on the address that they reach",
		"replace the certificate on every node and address, or correct the list of addresses"},

	OldProtocol: {Warning, "TLS before 1.2 is deprecated (RFC 8996); current browsers refuse it",
		"update the device, or switch TLS 1.2 on"},
	NotAgreed: {Warning, "usual clients cannot connect, and whether the device holds the key is not proven",
		"update the device or its TLS settings"},
	NameRefused: {Error, "clients that connect by this name cannot connect",
		"correct the server name of the slot, or configure the name on the device"},
	SupplicantRefuses: {Warning, "many devices refuse to join the network with it, although a browser accepts it",
		"request a new certificate with the profile for RADIUS servers (extended key usage serverAuth, the " +
			"server's own name)"},
	ClientCertificate: {Note, "only clients with a certificate of their own can use the service",
		"no action is needed if this is intended"},
	ClockWrong: {Warning, "the device rejects certificates that are not valid by its clock, and its logs and " +
		"sessions are wrong",
		"correct the clock of the device; set a time server (NTP)"},
	SecondCertificate: {Note, "which of the two certificates a client gets depends on what it supports; both must " +
		"be replaced",
		"no action is needed if this is intended"},
	Revoked: {Error, "clients that check revocation reject the certificate",
		"replace it now with a new key"},
	RevocationUnknown: {Warning, "clients that insist on an answer reject the certificate",
		"check that the address can be reached from here, or ask the signer"},
	StapleUnusable: {Warning, "clients that check the stapled response reject the connection",
		"check that the device can reach the OCSP responder and that its clock is correct, or switch stapling off"},
	NameMissing: {Error, "clients that connect by this name reject the certificate",
		"request a new certificate that includes this name"},
	NameSurplus: {Note, "the signer added it, or it is left over from an earlier certificate",
		"no action is needed if you recognize the name"},
	NameUnsignable: {Error, "the authority rejects the whole request",
		"remove the name, or use a private authority"},
	NameLeadsElsewhere: {Warning, "clients that connect by this name reach another device, or none",
		"correct the name or its DNS record, unless the name is about to move here"},
	CommonNameOnly: {Error, "clients ignore the common name (RFC 6125) and require subject alternative names",
		"request a new certificate with subject alternative names"},

	CommonNameElse: {Warning, "public authorities must repeat it in the subject alternative names, and some old " +
		"clients check only the common name",
		"request a new certificate that repeats the common name in the subject alternative names"},
	LifetimeTooLong: {Warning, "a long lifetime extends the damage of a compromised key",
		"ask the signer for a shorter one, or change the policy"},
	LifetimeTooShort: {Warning, "certificates from trial or test profiles expire unexpectedly early",
		"ask the signer whether the correct profile was used"},
	IssuerUnexpected: {Warning, "another profile or authority was used than before; clients may not trust it",
		"ask the signer; if the issuer is correct, accept the answer: the issuer is expected from then on"},
	AuthorityMarked: {Warning, "whoever takes its key can sign certificates for any name",
		"request a new certificate with the server profile"},
	EndsBeforeOld: {Warning, "a replacement usually lives longer than what it replaces; the signer may have sent " +
		"an old file",
		"ask the signer whether this is the current certificate"},
	UseLost: {Warning, "where the device connects to others with this certificate (mutual TLS), they will refuse it",
		"ask for a certificate with the extended key usages serverAuth and clientAuth, or accept this one where " +
			"the device is a server only"},
	TrustLost: {Warning, "these clients will show a warning or refuse the connection",
		"give the new root to these clients first, or ask for a certificate of the issuer that they trust"},
	WeakKey: {Error, "the key can be broken with known attacks",
		"replace the certificate with an ECDSA P-256 or RSA 2048 key, or a larger one"},
	WeakHash: {Error, "signatures with this hash can be forged",
		"request a new certificate signed with SHA-256 or better"},
	UsageWrong: {Error, "clients reject a certificate for a use that it does not allow",
		"request a new server certificate (extended key usage serverAuth)"},
	NotAuthority: {Error, "it signed a certificate without being a CA (RFC 5280, 4.2.1.9)",
		"ask the signer for the correct intermediate"},
	PathTooLong: {Error, "a CA in the chain allows fewer intermediates below it (RFC 5280, 4.2.1.9)",
		"ask the signer for a chain that satisfies its path length constraint"},
	NameNotAllowed: {Error, "a CA in the chain is not allowed to sign this name (RFC 5280, 4.2.1.10)",
		"request the certificate from an authority that may sign this name"},
	UnknownRule: {Error, "clients that do not understand a critical extension must reject the certificate (RFC " +
		"5280, 4.2)",
		"ask the signer for a certificate without it"},

	Malformed: {Error, "strict clients reject it before they check anything else",
		"request a new certificate"},
	SerialOdd: {Warning, "it must be positive and at most 20 bytes long (RFC 5280, 4.1.2.2); some clients " +
		"reject others",
		"request a new certificate with a valid serial number"},
	PolicyMissing: {Warning, "a CA in the chain requires a certificate policy (RFC 5280, 4.2.1.11); some clients " +
		"reject a leaf without one",
		"ask the signer whether the correct profile was used"},
	NoRevocation: {Note, "clients cannot check whether it was revoked",
		"no action is needed on an internal network; ask the signer if clients must check revocation"},

	KeyDiffers: {Error, "a device cannot serve a certificate for another key",
		"find the certificate that was signed for this request; compare the public keys"},
	SubjectDiffers: {Warning, "the subject differs from the request",
		"check whether the signer sets subjects by its own rules"},
	PlanInvalid: {Error, "the device or the signer would reject it",
		"correct the request and try again"},
}
