package cli

import (
	"io"
	"strings"

	"freshseal/contract"
	"freshseal/core/pki/cert"
)

// ShowFacts prints what people compare of a certificate, in the order in which they do.
func ShowFacts(w io.Writer, indent string, f cert.Facts) {
	for _, row := range FactRows(f) {
		Put(w, "%s%-12s %s\n", Safe(indent), row[0], row[1])
	}
}

// FactRows returns what people compare of a certificate.
func FactRows(f cert.Facts) [][2]string {
	return [][2]string{{"subject", f.Subject}, {"issuer", f.Issuer}, {"from", When(f.NotBefore)},
		{"to", When(f.NotAfter)}, {"serial", f.Serial}, {"SHA-256", f.SHA256}, {"SHA-1", f.SHA1},
		{"names", strings.Join(f.Names, ", ")}, {"key", f.Key + ", signed " + f.Signature},
		{"uses", strings.Join(f.Uses, ", ")}}
}

// DrawChain draws a chain as a ladder, leaf at the top.
func DrawChain(w io.Writer, links []contract.Link) {
	if len(links) == 0 {
		return
	}
	Putln(w, "  chain")
	for i, l := range links {
		rung, note := "├─", ""
		if i == len(links)-1 || links[i+1].Role == "surplus" {
			rung = "└─"
		}
		switch {
		case l.Role == "anchor" && !l.Served:
			note = ", held by the fleet's clients"
		case l.Role == "surplus":
			rung, note = "  ", ", served and not part of the chain"
		case !l.Served:
			note = ", not served"
		}
		Put(w, "  %s %-12s %s (to %s%s)\n", rung, l.Role, l.Name, l.NotAfter.UTC().Format("2006-01-02"), note)
	}
}
