package finding_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strconv"
	"testing"

	"freshseal/core/finding"
)

// A finding without a reason or a remedy helps nobody: every code has both.
func TestEveryCodeSaysWhyAndWhatToDo(t *testing.T) {
	file, err := parser.ParseFile(token.NewFileSet(), "codes.go", nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	codes := 0
	ast.Inspect(file, func(n ast.Node) bool {
		spec, ok := n.(*ast.ValueSpec)
		if !ok || len(spec.Values) != 1 {
			return true
		}
		literal, ok := spec.Values[0].(*ast.BasicLit)
		if !ok {
			return true
		}
		text, err := strconv.Unquote(literal.Value)
		if err != nil {
			t.Fatal(err)
		}
		codes++
		if f := finding.Code(text).Found("seen"); f.Severity == "" || f.Why == "" || f.Remedy == "" {
			t.Errorf("%s says too little: %+v", text, f)
		}
		return true
	})
	if codes < 20 {
		t.Errorf("only %d codes were looked at", codes)
	}
}
