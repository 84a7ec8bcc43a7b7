package kinds

import (
	"os"
	"strings"
	"testing"
)

// A kind whose folder is forgotten here could not be started.
func TestEveryFolderIsRegistered(t *testing.T) {
	source, err := os.ReadFile("kinds.go")
	if err != nil {
		t.Fatal(err)
	}
	folders, err := os.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range folders {
		if f.IsDir() && !strings.Contains(string(source), `"freshseal/standin/kinds/`+f.Name()+`"`) {
			t.Errorf("kinds.go does not import %s", f.Name())
		}
	}
}
