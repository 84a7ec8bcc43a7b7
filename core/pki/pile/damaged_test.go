package pile_test

import (
	"encoding/asn1"
	"strings"
	"testing"

	"freshseal/core/pki/pile"
)

// What is damaged is told with what to do, and what is whole beside it is taken.
func TestWhatIsDamagedIsTold(t *testing.T) {
	leaf, root, _, _ := material(t)
	text := string(leaf.PEM())
	head := "From: desk@harbour.example\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=quay\n"
	wrong, err := asn1.Marshal(struct {
		ID      asn1.ObjectIdentifier
		Version int
	}{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}, 1})
	if err != nil {
		t.Fatal(err)
	}
	for about, c := range map[string]struct {
		content string
		found   int // certificates
		says    string
	}{
		"a mail that ends in its first part": {head + "\n--quay\nContent-Type: text/plain\n\n" + text + "\n--qu", 1,
			"in it, is cut off"},
		"a mail that ends between its parts": {head + "\n--quay\nContent-Type: text/plain\n\n" + text + "\n--quay\n" +
			"Content-Type", 1, "a mail that is cut or damaged"},
		"a mail that ends in a block": {head + "\n--quay\nContent-Type: text/plain\n\n" + text +
			string(root.PEM()[:300]), 1, "begins and has no end"},
		"a mail that ends in its greeting": {head + "\n--quay\nContent-Type: text/plain\n\nDear keep", 0,
			"is damaged: unexpected EOF"},
		"a mail whose header is none": {head + "no header at all\n\nhello\n", 0, "a mail that cannot be read"},
		"a block with a character that is none": {strings.Replace(text, "MII", "MI!", 1), 0,
			`a block "CERTIFICATE" that is damaged; copy it again`},
		"an empty block beside a whole one": {"-----BEGIN CERTIFICATE-----\n-----END CERTIFICATE-----\n" + text, 1,
			`a block "CERTIFICATE" that is damaged; copy it again`},
		"a block without its end": {text + strings.TrimSuffix(string(root.PEM()), "-----END CERTIFICATE-----\n"), 1,
			"begins and has no end"},
		"DER that is cut off":                 {string(leaf.Raw[:200]), 0, "DER that is cut off"},
		"one byte of DER":                     {"\x30", 0, ""},
		"bytes whose second one is as in DER": {"x\x82\xff\xff\xff\xff", 0, "bytes that are neither PEM nor DER"},
		"PKCS #7 without content":             {string(wrong), 0, "PKCS #7 that is damaged"},
	} {
		accounts, err := pile.Sort([]pile.File{{Name: "it", Content: []byte(c.content)}}, pile.Options{})
		if err != nil {
			t.Errorf("%s: %v", about, err)
			continue
		}
		if n := len(pile.Certificates(accounts)); n != c.found || !strings.Contains(told(accounts), c.says) {
			t.Errorf("%s: %d certificates; it says:\n%s", about, n, told(accounts))
		}
	}
}

// Texts come as people and programs pass them on: quoted, listed, and with half of their dashes.
func TestATextIsTakenAsItIsPassedOn(t *testing.T) {
	leaf, _, _, _ := material(t)
	text := string(leaf.PEM())
	var quoted strings.Builder
	for line := range strings.Lines(text) {
		quoted.WriteString(`"` + strings.TrimSpace(line) + "\",\n")
	}
	for about, content := range map[string]string{
		"quoted":           quoted.String(),
		"in single quotes": strings.ReplaceAll(quoted.String(), `"`, "'"),
		"with two dashes":  strings.ReplaceAll(text, "-----", "--"),
		"base64url": "-----BEGIN CERTIFICATE-----\n" + strings.NewReplacer("+", "-", "/", "_").Replace(
			strings.Split(text, "-----")[2]) + "-----END CERTIFICATE-----\n",
		"cited": "> " + strings.ReplaceAll(text, "\n", "\n> "),
	} {
		accounts, err := pile.Sort([]pile.File{{Name: "it", Content: []byte(content)}}, pile.Options{})
		if err != nil || len(pile.Certificates(accounts)) != 1 {
			t.Errorf("%s: %v\n%s", about, err, told(accounts))
		}
	}
}
