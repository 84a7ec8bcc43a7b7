package fleet

import (
	"freshseal/contract"
	"freshseal/store"
)

// all converts each element of a list; none is an empty list.
func all[From, To any](from []From, convert func(From) To) []To {
	out := make([]To, len(from))
	for i, each := range from {
		out[i] = convert(each)
	}
	return out
}

func storedNode(n contract.Node) store.Node { return store.Node(n) }

func shownNode(n store.Node) contract.Node { return contract.Node(n) }

func storedPlace(p contract.Place) store.Place { return store.Place(p) }

func shownPlace(p store.Place) contract.Place { return contract.Place(p) }
