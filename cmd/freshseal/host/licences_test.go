package host

import (
	"bytes"
	"os"
	"os/exec"
	"strings"
	"testing"

	"freshseal/core/licences"
)

// What is built in is in the notices, each with a licence. They are made by make; without them the program says so.
func TestTheNoticesNameWhatIsBuiltIn(t *testing.T) {
	text := licences.Text()
	if _, err := os.Stat("../../../core/licences/text/all.txt.gz"); err != nil {
		if !strings.Contains(text, "built without their notices") {
			t.Fatalf("%.200s", text)
		}
		return
	}
	list, err := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}} "+
		"{{.Version}}{{end}}{{end}}", "freshseal/cmd/freshseal").Output()
	if err != nil {
		t.Fatal(err)
	}
	for module := range bytes.Lines(list) {
		if name := strings.TrimSpace(string(module)); name != "" && !strings.Contains(text, "\n"+name+"\n=") {
			t.Errorf("the notices lack %s; run make build", name)
		}
	}
	for _, name := range []string{"\nreact 1", "\n@mui/material ", "Go and its standard library"} {
		if !strings.Contains(text, name) {
			t.Errorf("the notices lack %q", name)
		}
	}
}
