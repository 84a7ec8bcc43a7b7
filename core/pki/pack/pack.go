// Package pack makes the exact bytes that a box wants out of a path:
//
//	leaf-first             leaf, then intermediates in order
//	leaf-first-with-root   the same and the root at the end
//	leaf                   the leaf alone
//	intermediates          what stands between leaf and root
//	intermediates-with-root
//	root                   the root alone
//	intermediate-1 … 3     one intermediate, the nearest to the leaf being the first
//
// Make writes them as PEM (RFC 7468) with LF line ends and a line end after the
// last block; Write in any other dress, with the key where the box wants that too.
package pack

import (
	"bytes"
	"errors"
	"fmt"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
)

// Form names what a file holds and in which order.
type Form string

// The forms.
const (
	LeafFirst             Form = "leaf-first"
	LeafFirstWithRoot     Form = "leaf-first-with-root"
	Leaf                  Form = "leaf"
	Intermediates         Form = "intermediates"
	IntermediatesWithRoot Form = "intermediates-with-root"
	Root                  Form = "root"
	Intermediate1         Form = "intermediate-1"
	Intermediate2         Form = "intermediate-2"
	Intermediate3         Form = "intermediate-3"
)

// Forms are all forms, in the order in which they are explained.
var Forms = []Form{LeafFirst, LeafFirstWithRoot, Leaf, Intermediates, IntermediatesWithRoot, Root, Intermediate1,
	Intermediate2, Intermediate3}

// What a form can want that the path does not hold.
var (
	ErrNoRoot         = errors.New("the path holds no root, and this form wants it")
	ErrNoIntermediate = errors.New("the path holds fewer intermediates than this form wants")
)

// Make writes the file of this form. What it returns was read back and holds
// just the certificates it should, in order.
func Make(form Form, path chain.Path) ([]byte, error) {
	certificates, err := choose(form, path)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	for _, c := range certificates {
		out.Write(c.PEM())
	}
	return out.Bytes(), readBack(out.Bytes(), "", certificates, nil)
}

func choose(form Form, path chain.Path) ([]*cert.Certificate, error) {
	leaf, middle := path.Certificates[:1], path.Intermediates()
	var root []*cert.Certificate
	if r := path.Root(); r != nil {
		root = []*cert.Certificate{r}
	}
	switch form {
	case LeafFirst:
		return join(leaf, middle), nil
	case Leaf:
		return leaf, nil
	case Intermediates:
		return middle, nil
	case Intermediate1, Intermediate2, Intermediate3:
		n := int(form[len(form)-1] - '1')
		if n >= len(middle) {
			return nil, ErrNoIntermediate
		}
		return middle[n : n+1], nil
	case LeafFirstWithRoot, IntermediatesWithRoot, Root:
		if root == nil {
			return nil, ErrNoRoot
		}
	default:
		return nil, fmt.Errorf("no form is called %q; the forms are %v", form, Forms)
	}
	switch form {
	case LeafFirstWithRoot:
		return join(leaf, middle, root), nil
	case IntermediatesWithRoot:
		return join(middle, root), nil
	}
	return root, nil
}

func join(parts ...[]*cert.Certificate) []*cert.Certificate {
	var all []*cert.Certificate
	for _, p := range parts {
		all = append(all, p...)
	}
	return all
}
