package wire_test

import (
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"os"
	"testing"
)

// pemFile writes certificates into a file.
func pemFile(t testing.TB, path string, ders ...[]byte) string {
	t.Helper()
	var out []byte
	for _, der := range ders {
		out = append(out, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	}
	if err := os.WriteFile(path, out, 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// keyFile writes a key into a file, as PKCS #8.
func keyFile(t testing.TB, path string, key crypto.Signer) string {
	t.Helper()
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}
