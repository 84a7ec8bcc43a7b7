package finding

// Code names one kind of finding. It stands in the API and never changes.
type Code string

// The codes, grouped as an administrator meets them.
const (
	Unreadable Code = "unreadable" // the slot could not be read

	SelfSigned      Code = "self-signed"      // nobody vouches for it but itself
	ChainIncomplete Code = "chain-incomplete" // a certificate of the path is missing
	ChainNotServed  Code = "chain-not-served" // known here, but the box does not send it
	ChainOrder      Code = "chain-order"      // served in an order that RFC 5246 forbids
	ChainSurplus    Code = "chain-surplus"    // served, and part of no path
	AnchorUnknown   Code = "anchor-unknown"   // the path ends in a root that is not trusted

	Lapsed          Code = "lapsed"
	NotYetValid     Code = "not-yet-valid"
	IssuerLapsed    Code = "issuer-lapsed"
	IssuerEndsFirst Code = "issuer-ends-first"

	NameMissing    Code = "name-missing"
	NameSurplus    Code = "name-surplus"
	NameUnsignable Code = "name-unsignable"

	NameLeadsElsewhere Code = "name-leads-elsewhere"
	CommonNameOnly     Code = "common-name-only"
	CommonNameElse     Code = "common-name-elsewhere"

	LifetimeTooLong  Code = "lifetime-too-long"
	LifetimeTooShort Code = "lifetime-too-short"

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

type meaning struct {
	severity    Severity
	why, remedy string
}

var meanings = map[Code]meaning{
	Unreadable: {Error, "nobody knows what it serves, nor when that ends",
		"see that the address and port are right and reachable, then read it again"},

	SelfSigned: {Error, "every client warns, and people learn to click warnings away",
		"replace it: freshseal replace DEVICE/SLOT --signer NAME"},
	ChainIncomplete: {Error, "clients that do not hold the missing certificate refuse the connection",
		"get it from the signer (authorities have their intermediates on a page of their own, often called repository or CA certificates; one of your own exports it), then give it to: freshseal intake FILE"},
	ChainNotServed: {Error, "clients that do not happen to know the intermediate refuse the connection",
		"replace it, or put the intermediates into the file that the box serves"},
	ChainOrder: {Warning, "old clients take the certificates only in order, each signed by the next",
		"replace it, or put the certificates in order: leaf, then each one's issuer"},
	ChainSurplus: {Note, "it costs a little time in each handshake and helps nobody",
		"leave it out when the chain is next installed"},
	AnchorUnknown: {Error, "clients trust only paths that end in a root they hold",
		"if you trust this root, add it: freshseal audience add fleet ROOT.pem"},

	Lapsed: {Error, "clients refuse it since it ended", "replace it now"},
	NotYetValid: {Error, "clients refuse it until it begins",
		"see that the clocks are right, or wait for its beginning"},
	IssuerLapsed: {Error, "a path is no better than its first lapsed certificate",
		"ask the signer for its current intermediate"},
	IssuerEndsFirst: {Warning, "the path ends before the leaf does",
		"plan the next replacement by the earlier date"},

	NameMissing: {Error, "who connects under this name is refused",
		"have it signed again with this name among the subject alternative names"},
	NameSurplus: {Note, "the signer added it, or it was left from an earlier use",
		"nothing need be done if you know the name"},
	NameUnsignable: {Error, "the authority refuses the whole request, found out only after it was sent",
		"leave the name out, or have it signed by an authority of your own"},
	NameLeadsElsewhere: {Warning, "whoever connects under this name comes to another box, or to none",
		"correct the name or its DNS record, unless it is to move here"},
	CommonNameOnly: {Error, "clients have not looked at the common name since RFC 6125; they want subject alternative names",
		"have it signed again with its names as subject alternative names"},

	CommonNameElse: {Warning, "publicly trusted authorities must repeat it among the names, and some old clients look at it alone",
		"have it signed again with the common name among the subject alternative names"},
	LifetimeTooLong: {Warning, "the longer a certificate lives, the longer a lost key does harm",
		"ask the signer for a shorter one, or change the policy"},
	LifetimeTooShort: {Warning, "trials and test profiles end after weeks, and nobody expects it",
		"ask the signer whether the right profile was chosen"},
	WeakKey: {Error, "the key can be broken with known means",
		"replace it with an ECDSA P-256 or RSA 2048 key, or a larger one"},
	WeakHash: {Error, "signatures over this hash can be forged",
		"have it signed again with SHA-256 or better"},
	UsageWrong: {Error, "clients refuse a certificate for a use that it does not name",
		"have it signed again as a server certificate (extended key usage serverAuth)"},
	NotAuthority: {Error, "it signed the one below without the right to (RFC 5280, 4.2.1.9)",
		"ask the signer for the right intermediate"},
	PathTooLong: {Error, "an authority on the path allows fewer intermediates below it (RFC 5280, 4.2.1.9)",
		"ask the signer for a chain that its own rules allow"},
	NameNotAllowed: {Error, "an authority on the path may not sign for this name (RFC 5280, 4.2.1.10)",
		"have it signed by an authority that may"},
	UnknownRule: {Error, "who does not understand a critical extension must refuse the certificate (RFC 5280, 4.2)",
		"ask the signer for a certificate without it"},

	Malformed: {Error, "clients that read strictly refuse it before they look at anything else",
		"have it signed again; where the box made it, replace it"},
	SerialOdd: {Warning, "it must be positive and of at most 20 bytes (RFC 5280, 4.1.2.2), and some clients refuse others",
		"ask the signer for one with a sound serial number"},
	PolicyMissing: {Warning, "an authority on the path wants a policy to be named (RFC 5280, 4.2.1.11), and some clients refuse a leaf that names none",
		"ask the signer whether the right profile was chosen"},
	NoRevocation: {Note, "once its key is lost, clients cannot find out that it was revoked",
		"nothing need be done inside a network; ask the signer if clients are to look it up"},

	KeyDiffers: {Error, "a box that serves a certificate for another key cannot be reached any more",
		"find the leaf that was signed for this request; compare the public keys"},
	SubjectDiffers: {Warning, "the subject is not the one that was asked for",
		"see whether the signer sets subjects by its own rules"},
	PlanInvalid: {Error, "the box or the signer would refuse it",
		"correct it and ask again"},
}
