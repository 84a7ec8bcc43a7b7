package extract

import (
	"errors"
	"regexp"

	"github.com/antchfx/xmlquery"
	"github.com/antchfx/xpath"
	"golang.org/x/net/html"
)

// mostMoves is how many steps from node to node an XPath expression may take. A path through a document of MaxBody
// bytes takes up to a few hundred thousand; two axes that look at all siblings, one within the other, take the square.
// So many take about 0.2 s.
const mostMoves = 5_000_000

var errTooCostly = errors.New("the expression takes too many steps through this document")

// counted is a navigator that gives up after some moves.
type counted struct {
	*xmlquery.NodeNavigator
	left *int
}

func (c counted) move(cost int) {
	if *c.left -= cost; *c.left < 0 {
		panic(errTooCostly) // recovered by XPath
	}
}

// The methods of xpath.NodeNavigator that move, or look at more than one node.
func (c counted) Copy() xpath.NodeNavigator {
	c.move(1)
	return counted{c.NodeNavigator.Copy().(*xmlquery.NodeNavigator), c.left}
}

func (c counted) MoveToParent() bool {
	c.move(1)
	return c.NodeNavigator.MoveToParent()
}

func (c counted) MoveToNextAttribute() bool {
	c.move(1)
	return c.NodeNavigator.MoveToNextAttribute()
}

func (c counted) MoveToChild() bool {
	c.move(1)
	return c.NodeNavigator.MoveToChild()
}

func (c counted) MoveToFirst() bool {
	c.move(1)
	return c.NodeNavigator.MoveToFirst()
}

func (c counted) MoveToNext() bool {
	c.move(1)
	return c.NodeNavigator.MoveToNext()
}

func (c counted) MoveToPrevious() bool {
	c.move(1)
	return c.NodeNavigator.MoveToPrevious()
}

func (c counted) MoveTo(other xpath.NodeNavigator) bool {
	c.move(1)
	return c.NodeNavigator.MoveTo(other.(counted).NodeNavigator)
}

func (c counted) Value() string {
	text := c.NodeNavigator.Value()
	c.move(1 + len(text)/64)
	return text
}

// Bounds of a page in which a selector is looked for: one that counts or compares siblings looks at all of them for
// each.
const (
	mostElements = 100_000
	mostSiblings = 10_000
)

// bounded reports that a page has too many elements, or too many in one.
func bounded(tree *html.Node) error {
	all, children := 0, map[*html.Node]int{}
	for node := range tree.Descendants() {
		if node.Type != html.ElementNode {
			continue
		}
		all++
		if children[node.Parent]++; all > mostElements || children[node.Parent] > mostSiblings {
			return errors.New("the page has more elements than are looked at")
		}
	}
	return nil
}

// costly matches what in a selector compares each element with many others: ~ with all siblings before it, :has and the
// like with all elements within it.
var costly = regexp.MustCompile(`~[^=]|:(has|haschild|contains|containsown|matches|matchesown)\b`)
