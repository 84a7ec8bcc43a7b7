package finding

// Failure says why something could not be read, in words for people.
type Failure struct {
	Code   string `json:"code" required:"true" enum:"no-way,refused,silent,unknown-host,unreachable,closed,no-tls,no-starttls,no-eap,no-secret,wrong-secret,silent-tls,old-tls,alert,unknown-name,unreadable-certificate,key-not-held"`
	What   string `json:"what" required:"true"`
	Remedy string `json:"remedy" required:"true"`
}

// NoTLS reports whether the address serves no TLS at all: it refuses connections, or speaks something else.
func (f Failure) NoTLS() bool {
	return f.Code == "refused" || f.Code == "no-tls" || f.Code == "no-starttls"
}

func (f Failure) Error() string { return f.What }
