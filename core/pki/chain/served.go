package chain

import (
	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
)

// Served judges how a box serves a path: whether every intermediate is sent,
// in order, and nothing besides. served is what came over the wire, leaf first.
func Served(path Path, served []*cert.Certificate) []finding.Finding {
	var found []finding.Finding
	sent := map[string]bool{}
	for _, c := range served {
		sent[c.SHA256] = true
	}
	onWay := map[string]bool{}
	for _, c := range path.Certificates {
		onWay[c.SHA256] = true
	}
	for _, c := range path.Intermediates() {
		if !sent[c.SHA256] {
			found = append(found, finding.ChainNotServed.Found("the intermediate “%s” is not sent", c.ShortName()))
		}
	}
	place := 0
	for i, c := range served {
		if i > 0 && c.SelfSigned() && onWay[c.SHA256] {
			found = append(found, finding.RootServed.Found("the root “%s” is sent", c.ShortName()))
		}
		switch {
		case !onWay[c.SHA256]:
			found = append(found, finding.ChainSurplus.Found("“%s” is sent and is not part of the path", c.ShortName()))
		case indexOf(path.Certificates, c) < place:
			return append(found, finding.ChainOrder.Found("“%s” is sent out of order", c.ShortName()))
		default:
			place = indexOf(path.Certificates, c)
		}
	}
	return found
}

func indexOf(path []*cert.Certificate, c *cert.Certificate) int {
	for i, p := range path {
		if p.SHA256 == c.SHA256 {
			return i
		}
	}
	return -1
}
