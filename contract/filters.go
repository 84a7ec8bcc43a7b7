package contract

// SlotFilter narrows a list of slots: of lists, counts, batches and sheets, and of the client's flags. Empty fields
// do not narrow.
type SlotFilter struct {
	Condition string `query:"condition" json:"condition,omitempty"`
	Device    string `query:"device" json:"device,omitempty"`
	Site      string `query:"site" json:"site,omitempty"`
	Family    string `query:"family" json:"family,omitempty" description:"- for those of devices that can only be read"`
	Tag       string `query:"tag" json:"tag,omitempty"`
	Owner     string `query:"owner" json:"owner,omitempty"`
	Signer    string `query:"signer" json:"signer,omitempty" description:"who signed what the last replacement installed"`
	Issuer    string `query:"issuer" json:"issuer,omitempty" description:"short name of the served certificate's issuer"`
	KeyType   string `query:"key_type" json:"key_type,omitempty" description:"key of the served certificate, such as ECDSA P-256"`
	Signature string `query:"signature" json:"signature,omitempty" description:"signature algorithm of the served certificate"`
	Ends      string `query:"ends" json:"ends,omitempty" description:"when the certificate expires: a month (2027-03), a day (2027-03-14), ended, or within some days (7d)"`
	Serves    string `query:"serves" json:"serves,omitempty" description:"SHA-256 of a certificate of the path: the leaf, an intermediate or the root"`
	Text      string `query:"text" json:"text,omitempty" description:"somewhere in the names, addresses, owner, tags, notes, subject, serial number or fingerprints"`
}

// DeviceFilter narrows a list of devices. Empty fields do not narrow.
type DeviceFilter struct {
	Condition string `query:"condition" json:"condition,omitempty" description:"the worst of its slots"`
	Site      string `query:"site" json:"site,omitempty"`
	Family    string `query:"family" json:"family,omitempty" description:"- for those that can only be read"`
	Cluster   string `query:"cluster" json:"cluster,omitempty"`
	Tag       string `query:"tag" json:"tag,omitempty"`
	Owner     string `query:"owner" json:"owner,omitempty"`
	Text      string `query:"text" json:"text,omitempty" description:"somewhere in the name, site, address, owner, tags, notes or cluster"`
}
