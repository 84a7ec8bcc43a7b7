// Package bounds looks at a YAML text before a parser may have it.
package bounds

import (
	"fmt"
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
)

// Excess is something that a text may not have, with its place and what to write instead.
type Excess struct {
	Line, Column  int
	Instead, What string
}

// Check returns what a text has that it may not; a parser may have it where that is nothing.
func Check(text []byte) (found []Excess) {
	add := func(at *token.Position, instead, what string) {
		found = append(found, Excess{at.Line, at.Column, instead, what})
	}
	tokens := lexer.Tokenize(string(text))
	if len(tokens) > maxTokens {
		return []Excess{{1, 1, "split it into parts",
			fmt.Sprintf("the file has %d words and marks, more than %d", len(tokens), maxTokens)}}
	}
	open, marks := 0, 0
	var columns []int // where the blocks begin that are open
	for _, tk := range tokens {
		at := tk.Position
		switch tk.Type {
		case token.AnchorType, token.AliasType:
			add(at, "write the text out", "anchors and aliases are not part of the language")
		case token.TagType:
			add(at, "remove it", "tags are not part of the language")
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
			add(at, "nest less", "this is nested too deep")
			return found
		}
	}
	return found
}
