package e2e

import (
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

// below are the rooms that each room may import; core's rooms may import each
// other, and everybody may import core.
var below = map[string][]string{
	"cmd": {"cli", "contract", "api", "service", "standin", "wire", "notify", "secretsource"},
	"cli": {"contract", "pin"}, "pin": {},
	"api":      {"contract", "service", "console"},
	"service":  {"contract", "device", "wire", "signer", "strongbox", "secretsource", "store", "notify"},
	"contract": {}, "secretsource": {},
	"device": {"pin"}, "notify": {"pin"}, "wire": {}, "signer": {}, "strongbox": {}, "store": {}, "standin": {},
	"console": {},
	"core":    {}, "build": {"cli", "cmd"},
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

// inside are the rooms of the service that each of them may import.
var inside = map[string][]string{
	"": {"notices", "report", "people", "access", "monitor", "fleet", "signing", "engine", "replace", "own",
		"problem"}, "problem": {},
	"audit": {}, "paging": {"problem"}, "sheet": {"problem"},
	"people": {"problem", "audit"}, "notices": {"problem", "audit", "paging"}, "access": {"problem", "audit"},
	"monitor": {"access", "problem", "audit"}, "fleet": {"monitor", "access", "problem", "audit", "paging", "sheet"},
	"signing": {"monitor", "problem", "audit", "paging"}, "report": {"problem", "sheet"},
	"engine": {"monitor", "access", "problem"}, "own": {},
	"replace": {"engine", "signing", "fleet", "monitor", "problem", "audit", "paging"},
	"memory":  {"monitor", "access"}, // of their tests
}

func TestRoomsOfTheServiceImportOneWay(t *testing.T) {
	seen := map[string]bool{}
	files, err := filepath.Glob("../service/*/*.go")
	more, _ := filepath.Glob("../service/*.go")
	for _, path := range append(files, more...) {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		room := filepath.Base(filepath.Dir(path))
		if room == "service" {
			room = ""
		}
		allowed, known := inside[room]
		if !known {
			t.Errorf("%s is in no room of the service; give it a place in the list", path)
		}
		seen[room] = true
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			t.Fatal(err)
		}
		for _, i := range file.Imports {
			to, ours := strings.CutPrefix(strings.Trim(i.Path.Value, `"`), "freshseal/service/")
			if ours && !slices.Contains(allowed, to) {
				t.Errorf("%s imports %s, which is not below %s", path, to, room)
			}
			if to == "memory" {
				t.Errorf("%s works on what is there for tests", path)
			}
			if strings.Contains(i.Path.Value, "net/http") || strings.Contains(i.Path.Value, "sqlx") {
				t.Errorf("%s imports %s: HTTP and SQL have their own places", path, i.Path.Value)
			}
		}
	}
	if err != nil || len(seen) != len(inside) {
		t.Fatalf("%d rooms of %d seen, %v", len(seen), len(inside), err)
	}
}

// What to do next travels as data: only the client knows commands and flags.
func TestNoCommandsBelowTheClient(t *testing.T) {
	command := regexp.MustCompile(`freshseal [a-z]+|(^| )--[a-z]`)
	for _, room := range []string{"core", "service", "device", "wire", "signer", "store"} {
		err := filepath.WalkDir("../"+room, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(n ast.Node) bool {
				if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING && command.MatchString(lit.Value) &&
					!strings.Contains(lit.Value, "curl --cacert") {
					t.Errorf("%s words a command: %s", path, lit.Value)
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}

// A type that does everything is several, and so is a package that cannot be read in one sitting.
func TestNoTypeIsTooWideAndNoPackageTooLong(t *testing.T) {
	methods, lines := map[string]int{}, map[string]int{}
	err := filepath.WalkDir("..", func(path string, entry fs.DirEntry, err error) error {
		if err == nil && entry.IsDir() && (entry.Name() == "node_modules" || entry.Name() == ".git") {
			return filepath.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		lines[filepath.Dir(path)] += strings.Count(string(text), "\n")
		file, err := parser.ParseFile(token.NewFileSet(), path, text, 0)
		if err != nil {
			return err
		}
		for _, d := range file.Decls {
			if f, ok := d.(*ast.FuncDecl); ok && f.Recv != nil {
				of := f.Recv.List[0].Type
				if pointer, ok := of.(*ast.StarExpr); ok {
					of = pointer.X
				}
				if name, ok := of.(*ast.Ident); ok {
					methods[filepath.Dir(path)+" "+name.Name]++
				}
			}
		}
		return nil
	})
	for name, n := range methods {
		if n > 40 {
			t.Errorf("%s has %d methods; cut it by its nouns", name, n)
		}
	}
	for folder, n := range lines {
		if n > 4000 {
			t.Errorf("%s has %d lines; cut it by its nouns", folder, n)
		}
	}
	if err != nil || len(methods) < 300 || len(lines) < 100 {
		t.Fatal(len(methods), len(lines), err)
	}
}

// Core knows nothing of the API: what its types mean there is said in contract.
func TestCoreDescribesNothing(t *testing.T) {
	err := filepath.WalkDir("../core", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		if strings.Contains(string(text), "description:\"") {
			t.Errorf("%s has a tag for the API's document; put it into contract/descriptions.go", path)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// Everything that people read goes out through put, which makes foreign characters
// visible.
func TestTheClientWritesThroughOneMechanism(t *testing.T) {
	files, err := filepath.Glob("../cli/*.go")
	rooms, _ := filepath.Glob("../cli/*/*.go")
	files = append(files, rooms...)
	host, _ := filepath.Glob("../cmd/freshseal/host/*.go")
	for _, path := range append(files, host...) {
		if strings.HasSuffix(path, "_test.go") || filepath.Base(path) == "put.go" || filepath.Base(path) == "print.go" {
			continue
		}
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(text), "fmt.Fprint") || strings.Contains(string(text), "fmt.Print") {
			t.Errorf("%s writes past put", path)
		}
	}
	if err != nil || len(files) < 20 {
		t.Fatal(files, err)
	}
}

// A line of Go has at most 120 columns, a tab counting as four. Raw texts, such as procedures, pages and scripts, keep
// the lines of their own language, and a tag cannot be broken.
func TestLinesAreShort(t *testing.T) {
	for path, source := range sources(t) {
		raw := map[int]bool{}
		file := token.NewFileSet().AddFile(path, -1, len(source))
		var s scanner.Scanner
		s.Init(file, source, nil, scanner.ScanComments)
		for {
			pos, kind, text := s.Scan()
			if kind == token.EOF {
				break
			}
			if kind == token.STRING && text[0] == '`' {
				for line := range strings.Count(text, "\n") + 1 {
					raw[file.Line(pos)+line] = true
				}
			}
		}
		for i, line := range strings.Split(string(source), "\n") {
			if width := utf8.RuneCountInString(line) + 3*strings.Count(line, "\t"); width > 120 && !raw[i+1] {
				t.Errorf("%s:%d has %d columns", path, i+1, width)
			}
		}
	}
}

// The imports of a file stand in three groups: the standard library, the house, others.
func TestImportsStandInGroups(t *testing.T) {
	for path, source := range sources(t) {
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, source, parser.ImportsOnly)
		if err != nil {
			t.Fatal(err)
		}
		group, line := -1, 0
		for i, spec := range file.Imports {
			from, _, _ := strings.Cut(strings.Trim(spec.Path.Value, `"`), "/")
			is := 0
			switch {
			case from == "freshseal":
				is = 1
			case strings.Contains(from, "."):
				is = 2
			}
			at := set.Position(spec.Pos()).Line
			if apart := at > line+1 && spec.Doc == nil; i > 0 && (is < group || (is > group) != apart) {
				t.Errorf("%s:%d is in the wrong group of imports", path, at)
			}
			group, line = is, at
		}
	}
}

// sources are the Go files of the house by their path.
func sources(t *testing.T) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	err := filepath.WalkDir("..", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			if entry != nil && entry.Name() == "node_modules" {
				return filepath.SkipDir
			}
			return err
		}
		if strings.HasSuffix(path, ".go") {
			out[path], err = os.ReadFile(path)
		}
		return err
	})
	if err != nil || len(out) < 100 {
		t.Fatalf("%d sources, %v", len(out), err)
	}
	return out
}

// The picture of the house names every room, and every file that the text names is there.
func TestTheArchitectureIsTheHouse(t *testing.T) {
	text := read(t, "../docs/architecture.md")
	for path := range sources(t) {
		folder := strings.TrimPrefix(filepath.Dir(path), "../")
		parts := strings.Split(folder, "/")
		if parts[0] == "build" || parts[0] == "e2e" || strings.Contains(folder, "testdata") || len(parts) > 3 ||
			strings.HasPrefix(folder, "standin/kinds/") { // each is named by its kind
			continue
		}
		if name := parts[len(parts)-1]; !regexp.MustCompile(`(?m)(^ +|\b)` + name + `\b`).MatchString(text) {
			t.Errorf("the picture lacks %s", folder)
		}
	}
	for _, found := range regexp.MustCompile(
		"`([a-z][a-zA-Z0-9_/-]*/[a-zA-Z0-9_.-]+\\.(?:go|tsx?|sh|sql|md))").FindAllStringSubmatch(text, -1) {
		if _, err := os.Stat("../" + found[1]); err != nil && !strings.Contains(found[1], "NAME") {
			t.Errorf("%s is not there", found[1])
		}
	}
}

// The pictures of the flows name functions that are there, in the folder before them.
func TestTheFlowsAreTheProgram(t *testing.T) {
	folder, seen := "", 0
	for _, line := range strings.Split(read(t, "../docs/flows.md"), "\n") {
		if at := regexp.MustCompile(`^ {4}([a-z]+(?:/[a-z]+)*) {2,}\S`).FindStringSubmatch(line); at != nil {
			folder = at[1]
		}
		for _, named := range regexp.MustCompile(`\b(Service|Reader|reader|Readings|Outbox|visit|Runner|Progress|`+
			`Replacements|Roster|Slots|Lists|Sender)\.([A-Za-z]+)`).FindAllStringSubmatch(line, -1) {
			files, err := filepath.Glob("../*/*.go")
			deeper, _ := filepath.Glob("../*/*/*.go")
			deepest, _ := filepath.Glob("../*/*/*/*.go")
			is := regexp.MustCompile(`(?m)^func \(\w+ \*?` + named[1] + `\) ` + named[2] + `\(`)
			if !slices.ContainsFunc(slices.Concat(files, deeper, deepest), func(path string) bool {
				return (strings.HasPrefix(path, "../"+folder+"/") || strings.Contains(line, "└──▶") ||
					strings.Contains(line, "→")) && is.MatchString(read(t, path))
			}) {
				t.Errorf("%s has no %s.%s (%v): %s", folder, named[1], named[2], err, line)
			}
			seen++
		}
	}
	if seen < 20 {
		t.Errorf("only %d functions are named", seen)
	}
}
