// Package extract finds one value in what a device answered: in a page, a JSON text or an
// XML text.
//
//	CSS   first element that a selector finds: its text, or an attribute (hidden tokens of forms)
//	JSON  what a pointer leads to (RFC 6901)
//	XPath first node that a path finds (XPath 1.0); names with a prefix by local-name()
//
// All of them are given at most MaxBody bytes of a stranger's answer.
package extract

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/andybalholm/cascadia"
	"github.com/antchfx/xmlquery"
	"github.com/antchfx/xpath"
	"github.com/go-openapi/jsonpointer"
	"golang.org/x/net/html"
)

// MaxBody is how much of an answer is looked at, in bytes.
const MaxBody = 1 << 20

// maxDepth bounds how deep JSON and XML may nest; html has a bound of its own.
const maxDepth = 200

// ErrNothing means that nothing of that kind is in the answer.
var ErrNothing = errors.New("there is none in the answer")

// CheckSelector returns what is wrong with a CSS selector.
func CheckSelector(selector string) error {
	if costly.MatchString(strings.ToLower(selector)) {
		return errors.New("~ and pseudo-classes that look at other elements take too long on a large page; " +
			"name the element by tags, classes, attributes and its place")
	}
	_, err := cascadia.Parse(selector)
	return err
}

// CheckPointer returns what is wrong with a JSON pointer.
func CheckPointer(pointer string) error {
	_, err := jsonpointer.New(pointer)
	return err
}

// CheckXPath returns what is wrong with an XPath expression.
func CheckXPath(expression string) (err error) {
	defer func() {
		if r := recover(); r != nil { // the library does that with some
			err = fmt.Errorf("it cannot be read: %v", r)
		}
	}()
	_, err = xpath.Compile(expression)
	return err
}

// CSS returns the text of the first element that the selector finds, or its attribute where
// one is named.
func CSS(page []byte, selector, attribute string) (string, error) {
	wanted, err := cascadia.Parse(selector)
	if err != nil {
		return "", err
	}
	tree, err := html.Parse(bytes.NewReader(page[:min(len(page), MaxBody)]))
	if err != nil {
		return "", fmt.Errorf("the page cannot be read: %w", err)
	}
	if err := bounded(tree); err != nil {
		return "", err
	}
	node := cascadia.Query(tree, wanted)
	if node == nil {
		return "", ErrNothing
	}
	if attribute == "" {
		var text strings.Builder
		for each := range node.Descendants() {
			if each.Type == html.TextNode {
				text.WriteString(each.Data)
			}
		}
		return text.String(), nil
	}
	for _, each := range node.Attr {
		if each.Key == attribute {
			return each.Val, nil
		}
	}
	return "", ErrNothing
}

// JSON returns what the pointer leads to: a text as it is, anything else as JSON.
func JSON(text []byte, pointer string) (string, error) {
	p, err := jsonpointer.New(pointer)
	if err != nil {
		return "", err
	}
	if deeper(text, '{', '[', '}', ']') {
		return "", errors.New("the JSON nests too deep")
	}
	var document any
	reader := json.NewDecoder(bytes.NewReader(text))
	reader.UseNumber()
	if err := reader.Decode(&document); err != nil {
		return "", fmt.Errorf("the answer is not JSON: %w", err)
	}
	found, _, err := p.Get(document)
	if err != nil || found == nil {
		return "", ErrNothing
	}
	if said, ok := found.(string); ok {
		return said, nil
	}
	out, err := json.Marshal(found)
	return string(out), err
}

// deeper reports whether brackets nest deeper than is read. Those in texts count, too: what is
// refused in error is told.
func deeper(text []byte, open1, open2, close1, close2 byte) bool {
	depth := 0
	for _, c := range text {
		switch c {
		case open1, open2:
			depth++
		case close1, close2:
			depth--
		}
		if depth > maxDepth {
			return true
		}
	}
	return false
}

// XPath returns the text of the first node that the expression finds, an attribute or an
// element.
func XPath(text []byte, expression string) (found string, err error) {
	if len(text) > MaxBody || bytes.Contains(text, []byte("<!")) && bytes.Contains(text, []byte("ENTITY")) {
		return "", errors.New("the XML is too large, or defines entities")
	}
	defer func() {
		if r := recover(); r != nil {
			found, err = "", fmt.Errorf("it cannot be looked for: %v", r)
		}
	}()
	wanted, err := xpath.Compile(expression)
	if err != nil {
		return "", err
	}
	tree, err := xmlquery.Parse(bytes.NewReader(text))
	if err != nil {
		return "", fmt.Errorf("the answer is not XML: %w", err)
	}
	for node, depth := tree, 0; node != nil; node, depth = node.FirstChild, depth+1 {
		if depth > maxDepth {
			return "", errors.New("the XML nests too deep")
		}
	}
	left := mostMoves
	switch value := wanted.Evaluate(counted{xmlquery.CreateXPathNavigator(tree), &left}).(type) {
	case string:
		return value, nil
	case float64, bool:
		return fmt.Sprint(value), nil
	case *xpath.NodeIterator:
		if value.MoveNext() {
			return value.Current().Value(), nil
		}
	}
	return "", ErrNothing
}
