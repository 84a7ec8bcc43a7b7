package api_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"reflect"
	"strconv"
	"strings"
)

// comments returns what the comments in the sources of a package say of its fields that travel, by type and property:
// the OpenAPI document describes them by that.
func comments(folder string) (map[string]string, error) {
	files, err := filepath.Glob(filepath.Join(folder, "*.go"))
	if err != nil || len(files) == 0 {
		return nil, fmt.Errorf("no sources in %s, %w", folder, err)
	}
	out := map[string]string{}
	for _, name := range files {
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ParseComments)
		if err != nil {
			return nil, err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if named, ok := n.(*ast.TypeSpec); ok {
				if fields, ok := named.Type.(*ast.StructType); ok {
					commentsOf(named.Name.Name, fields, out)
				}
			}
			return true
		})
	}
	return out, nil
}

func commentsOf(of string, fields *ast.StructType, out map[string]string) {
	for _, field := range fields.Fields.List {
		text := field.Doc.Text()
		if text == "" {
			text = field.Comment.Text()
		}
		if field.Tag == nil || text == "" {
			continue
		}
		tag, _ := strconv.Unquote(field.Tag.Value)
		property, _, _ := strings.Cut(reflect.StructTag(tag).Get("json"), ",")
		if property != "" && property != "-" {
			out[of+"."+property] = strings.Join(strings.Fields(text), " ")
		}
	}
}
