// Command licences writes the notices of what is built into the program: of each Go module and of each package of the
// console, its licence as it came. It reads what the build has fetched already.
package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

func main() {
	out := bufio.NewWriter(os.Stdout)
	if err := errors.Join(modules(out), packages(out), out.Flush()); err != nil {
		fmt.Fprintln(os.Stderr, "licences:", err)
		os.Exit(1)
	}
}

// modules writes the notices of Go itself and of the modules of the program.
func modules(out io.Writer) error {
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return err
	}
	if err := notice(out, "Go and its standard library", strings.TrimSpace(string(root))); err != nil {
		return err
	}
	list := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}} "+
		"{{.Version}}\t{{.Dir}}{{end}}{{end}}", "./cmd/freshseal")
	list.Stderr = os.Stderr
	text, err := list.Output()
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	var all []string
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); line != "" && !seen[line] {
			seen[line] = true
			all = append(all, line)
		}
	}
	slices.Sort(all)
	for _, line := range all {
		name, dir, _ := strings.Cut(line, "\t")
		if err := notice(out, name, dir); err != nil {
			return err
		}
	}
	return nil
}

// packages writes the notices of the packages that the console is built of.
func packages(out io.Writer) error {
	text, err := os.ReadFile("console/package-lock.json")
	if err != nil {
		return err
	}
	var lock struct {
		Packages map[string]struct {
			Version  string
			Dev      bool
			Optional bool
		}
	}
	if err := json.Unmarshal(text, &lock); err != nil {
		return err
	}
	var dirs []string
	for dir, p := range lock.Packages {
		if dir != "" && !p.Dev && !p.Optional {
			dirs = append(dirs, dir)
		}
	}
	slices.Sort(dirs)
	for _, dir := range dirs {
		name := dir[strings.LastIndex(dir, "node_modules/")+len("node_modules/"):]
		if err := notice(out, name+" "+lock.Packages[dir].Version, filepath.Join("console", dir)); err != nil {
			return err
		}
	}
	return nil
}

// notice writes what a folder has of licences and notices; of a package without a file, what it says of its licence.
func notice(out io.Writer, name, dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "%s\n%s\n\n", name, strings.Repeat("=", len(name)))
	found := false
	for _, e := range entries {
		upper := strings.ToUpper(e.Name())
		if e.IsDir() || !strings.HasPrefix(upper, "LICEN") && !strings.HasPrefix(upper, "COPYING") &&
			!strings.HasPrefix(upper, "NOTICE") {
			continue
		}
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			return err
		}
		found = true
		fmt.Fprintf(out, "%s\n\n", bytes.TrimSpace(text))
	}
	if found {
		return nil
	}
	text, err := os.ReadFile(filepath.Join(dir, "package.json"))
	if err != nil {
		return fmt.Errorf("%s has no licence", name)
	}
	var p struct{ License string }
	if err := json.Unmarshal(text, &p); err != nil || p.License == "" {
		return fmt.Errorf("%s has no licence", name)
	}
	fmt.Fprintf(out, "Licence: %s\n\n", p.License)
	return nil
}
