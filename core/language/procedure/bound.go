package procedure

import (
	"strings"

	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"
)

// What a file may ask of the YAML parser, whose work grows with the square of each:
// 60 kB of opening brackets took 6 GB of memory.
const (
	maxTokens  = 8000
	maxNesting = 24
	maxMarks   = 8 // "- - - -" and the like at one place
	maxFaults  = 200
)

// bound looks at the tokens of a file and says whether the parser may have it.
func (r *reader) bound(text []byte) bool {
	tokens := lexer.Tokenize(string(text))
	if len(tokens) > maxTokens {
		r.add(1, 1, "split it into parts", "the file has %d words and marks, more than %d", len(tokens), maxTokens)
		return false
	}
	open, marks := 0, 0
	var columns []int // where the blocks begin that are open
	for _, tk := range tokens {
		at := tk.Position
		switch tk.Type {
		case token.AnchorType, token.AliasType:
			r.add(at.Line, at.Column, "write the text out", "anchors and aliases are not part of the language")
		case token.TagType:
			r.add(at.Line, at.Column, "remove it", "tags are not part of the language")
		case token.SequenceStartType, token.MappingStartType:
			open++
		case token.SequenceEndType, token.MappingEndType:
			open--
		}
		if tk.Type == token.SequenceEntryType || tk.Type == token.MappingKeyType {
			marks++
		} else {
			marks = 0
		}
		if strings.TrimSpace(tk.Value) != "" && open == 0 {
			for len(columns) > 0 && columns[len(columns)-1] >= at.Column {
				columns = columns[:len(columns)-1]
			}
			if tk.Prev == nil || tk.Prev.Position.Line != at.Line {
				columns = append(columns, at.Column)
			}
		}
		if open > maxNesting || marks > maxMarks || len(columns) > maxNesting {
			r.add(at.Line, at.Column, "nest less", "this is nested too deep")
			return false
		}
	}
	return len(r.faults) == 0
}
