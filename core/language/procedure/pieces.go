package procedure

import "github.com/goccy/go-yaml/ast"

// piece is a piece of dialog. It is read when a step first names it.
type piece struct {
	Node ast.Node
	Read any // what the verb made of it; nil: nobody named it yet
}

// readPieces finds the pieces of dialog that several steps have in common, such as the way into a menu:
//
//	pieces:
//	  enter: [{see: "PIN: $", say: "{{pin}}"}, {see: "Choice: $", say: "4"}]
//	…
//	talk: [{piece: enter}, {see: "…", say: "…"}]
func readPieces(r *Reader, root ast.Node) {
	r.Pieces = map[string]*piece{}
	pairs, _ := r.Pairs(root)
	for _, pair := range pairs {
		if pair.Key.GetToken().Value != "pieces" {
			continue
		}
		named, ok := r.Pairs(pair.Value)
		if !ok {
			r.Fault(pair.Value, "write NAME: [{see: …, say: …}]", "pieces is not a mapping of names to lists")
		}
		for _, each := range named {
			r.Pieces[each.Key.GetToken().Value] = &piece{Node: each.Value}
		}
	}
}
