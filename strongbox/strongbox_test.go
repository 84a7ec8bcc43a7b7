package strongbox_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"freshseal/strongbox"
)

func TestASecretOpensOnlyForItsPurposeWithItsKey(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	box, err := strongbox.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	sealed := box.Seal("device/gate/password", []byte("correct horse"))
	if bytes.Contains(sealed, []byte("horse")) {
		t.Error("it is not sealed")
	}
	again, err := strongbox.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	if secret, err := again.Open("device/gate/password", sealed); err != nil || string(secret) != "correct horse" {
		t.Errorf("after a restart: %q, %v", secret, err)
	}
	other, err := strongbox.Open(filepath.Join(t.TempDir(), "key"))
	if err != nil {
		t.Fatal(err)
	}
	bent := bytes.Clone(sealed)
	bent[len(bent)-1] ^= 1
	for about, try := range map[string]func() ([]byte, error){
		"another purpose": func() ([]byte, error) { return box.Open("device/vault/password", sealed) },
		"another key":     func() ([]byte, error) { return other.Open("device/gate/password", sealed) },
		"a changed byte":  func() ([]byte, error) { return box.Open("device/gate/password", bent) },
		"too few bytes":   func() ([]byte, error) { return box.Open("device/gate/password", sealed[:5]) },
	} {
		if secret, err := try(); !errors.Is(err, strongbox.ErrCannotOpen) {
			t.Errorf("with %s: %q, %v", about, secret, err)
		}
	}
}

func TestAKeyThatOthersCanReadOrThatIsDamagedIsRefused(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	if _, err := strongbox.Open(file); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := strongbox.Open(file); err == nil {
		t.Error("a key that everybody can read is used")
	}
	if err := os.WriteFile(file, []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	os.Chmod(file, 0o600)
	if _, err := strongbox.Open(file); err == nil {
		t.Error("half a key is used")
	}
}
