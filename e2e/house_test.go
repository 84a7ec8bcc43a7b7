package e2e

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// below are the rooms that each room may import; core's rooms may import each
// other, and everybody may import core.
var below = map[string][]string{
	"cmd": {"cli"}, "cli": {"api", "service", "standin"}, "api": {"service", "console"},
	"service": {"device", "wire", "signer", "strongbox", "store"},
	"device":  {}, "wire": {}, "signer": {}, "strongbox": {}, "store": {}, "standin": {}, "console": {}, "core": {},
}

func TestImportsPointDownwardsOnly(t *testing.T) {
	seen := map[string]bool{}
	err := filepath.WalkDir("..", func(path string, entry fs.DirEntry, err error) error {
		rel, _ := filepath.Rel("..", path)
		room, _, _ := strings.Cut(filepath.ToSlash(rel), "/")
		if entry.IsDir() && (room == "e2e" || entry.Name() == "node_modules" || room == ".git" || room == ".demo") {
			return filepath.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		allowed, known := below[room]
		if !known {
			t.Errorf("%s is in no room of the house; give it a place in the list", rel)
		}
		seen[room] = true
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range file.Imports {
			inner, ours := strings.CutPrefix(strings.Trim(i.Path.Value, `"`), "freshseal/")
			to, _, _ := strings.Cut(inner, "/")
			if !ours || to == "core" || to == room && room != "core" {
				continue
			}
			if !slices.Contains(allowed, to) {
				t.Errorf("%s imports %s, which is not below %s", rel, inner, room)
			}
		}
		return nil
	})
	if err != nil || len(seen) != len(below) {
		t.Fatalf("%d rooms of %d seen, %v", len(seen), len(below), err)
	}
}
