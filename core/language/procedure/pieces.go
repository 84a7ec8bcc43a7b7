package procedure

import "github.com/goccy/go-yaml/ast"

// readPieces reads the pieces of dialog that several steps have in common, such as the way into a menu:
//
//	pieces:
//	  enter: [{see: "PIN: $", say: "{{pin}}"}, {see: "Choice: $", say: "4"}]
//	…
//	talk: [{piece: enter}, {see: "…", say: "…"}]
func (r *reader) readPieces(root ast.Node) {
	r.pieces, r.said = map[string][]dialogTurn{}, map[string]bool{}
	pairs, _ := r.pairs(root)
	for _, pair := range pairs {
		if pair.Key.GetToken().Value != "pieces" {
			continue
		}
		named, ok := r.pairs(pair.Value)
		if !ok {
			r.fault(pair.Value, "write NAME: [{see: …, say: …}]", "pieces is not a mapping of names to lists")
		}
		for _, each := range named {
			r.pieces[each.Key.GetToken().Value] = r.turns(each.Value, "talk")
		}
	}
}
