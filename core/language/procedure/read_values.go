package procedure

import (
	"regexp"
	"strings"

	"freshseal/core/language/answer"

	"github.com/goccy/go-yaml/ast"
)

// Headers reads header fields that the author may set.
func (r *Reader) Headers(n ast.Node) []answer.Labelled {
	out := r.Labelled(n, "headers", r.Text)
	for _, each := range out {
		switch strings.ToLower(each.Label) {
		case "host", "content-length", "transfer-encoding", "connection", "cookie":
			r.Fault(n, "leave it out", "the header %s is written by Fresh Seal itself", each.Label)
		default:
			if !fieldRow.MatchString(each.Label) {
				r.Fault(n, "use letters, digits and -", "%q cannot be a header", each.Label)
			}
		}
	}
	return out
}

// Labelled reads a mapping of labels to texts, in its order.
func (r *Reader) Labelled(n ast.Node, what string, read func(ast.Node) string) []answer.Labelled {
	pairs, ok := r.Pairs(n)
	if !ok {
		r.Fault(n, "write label: text lines", "%s is not a mapping", what)
	}
	var out []answer.Labelled
	for _, pair := range pairs {
		out = append(out, answer.Labelled{Label: pair.Key.GetToken().Value, Text: read(pair.Value)})
	}
	return out
}

var fieldRow = regexp.MustCompile(`^[A-Za-z0-9-]{1,60}$`)
