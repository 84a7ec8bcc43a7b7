package finding

// Failure says why something could not be read, in words for people.
type Failure struct {
	Code   string `json:"code" required:"true" enum:"no-way,refused,silent,unknown-host,unreachable,no-tls,alert,unreadable-certificate,closed"`
	What   string `json:"what" required:"true"`
	Remedy string `json:"remedy" required:"true"`
}

func (f Failure) Error() string { return f.What }
