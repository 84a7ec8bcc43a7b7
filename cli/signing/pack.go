package signing

import (
	"fmt"
	"os"
	"time"

	"freshseal/cli"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/pack"
	"freshseal/core/pki/pile"

	"github.com/spf13/cobra"
)

// pack makes the very file that a box wants, for a box outside the fleet too.
func (a *commands) pack() *cobra.Command {
	var form, encoding, place, keyForm, out, newPassphraseFile string
	var passphraseFiles []string
	var d pack.Options
	c := &cobra.Command{
		Use: "pack FILE… --out FILE", Short: "Write certificates in the form that a device needs; needs no service",
		Args: cobra.MinimumNArgs(1),
		Example: "  freshseal pack answer.cer chain.p7b --out chain.pem\n" +
			"  freshseal pack answer.cer chain.p7b key.pem --encoding pkcs12-old --key before " +
			"--new-passphrase-file pass.txt --out box.pfx",
		RunE: func(_ *cobra.Command, args []string) error {
			files, err := a.readPile(args)
			if err != nil {
				return err
			}
			passphrases, err := a.passphrases(passphraseFiles)
			if err != nil {
				return err
			}
			sorted, err := pile.Sort(files, pile.Options{Passphrases: passphrases})
			if err != nil {
				return cli.Failed("nothing was packed", err.Error(), "split it")
			}
			all := pile.Certificates(sorted)
			leaf, err := theLeaf(all)
			if err != nil {
				return err
			}
			if newPassphraseFile != "" {
				if d.Passphrase, err = a.Secret("passphrase of the new file", newPassphraseFile,
					"--new-passphrase-file"); err != nil {
					return err
				}
			}
			d.Encoding, d.Place, d.KeyForm = pack.Encoding(encoding), pack.KeyPlace(place), pack.KeyForm(keyForm)
			path := chain.Complete(leaf, chain.NewPool(all...), chain.NewPool(), time.Now())
			written, err := packed(pack.Form(form), d, path, sorted)
			if err != nil {
				return cli.Failed("nothing was packed", err.Error(), "see: freshseal pack --help")
			}
			if err := os.WriteFile(out, written, 0o600); err != nil {
				return cli.Failed("the file cannot be written", err.Error(), "name another one with --out")
			}
			cli.Put(a.Out, "%s: %s as %s, %d bytes, read back and compared\n", out, form, encoding, len(written))
			if !path.Complete && form != string(pack.Leaf) {
				cli.Put(a.Out, "  the chain is not complete: the issuer %s is missing\n", path.Missing)
				return cli.FoundWrong
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&form, "form", string(pack.LeafFirst), fmt.Sprintf("content, one of %v", pack.Forms))
	f.StringVar(&encoding, "encoding", string(pack.PEM), fmt.Sprintf("one of %v", pack.Encodings))
	f.StringVar(&place, "key", string(pack.NoKey), fmt.Sprintf("position of the private key, one of %v",
		pack.KeyPlaces))
	f.StringVar(&keyForm, "key-form", string(pack.PKCS8), fmt.Sprintf("key format, one of %v", pack.KeyForms))
	f.BoolVar(&d.CRLF, "crlf", false, "Windows line ends")
	f.IntVar(&d.LineLength, "line-length", 64, "line length of PEM; -1: one line")
	f.BoolVar(&d.Text, "text", false, "add a description before each certificate")
	f.StringVar(&d.Alias, "alias", "", "the friendly name of the key in a PKCS #12 store")
	f.StringVar(&newPassphraseFile, "new-passphrase-file", "", "read the passphrase that locks the new file from "+
		"this file")
	passphraseFlag(c, &passphraseFiles)
	f.StringVar(&out, "out", "", "the file to write")
	c.MarkFlagRequired("out")
	return c
}

// packed writes the file, with the key among the files that is the leaf's.
func packed(form pack.Form, d pack.Options, path chain.Path, sorted []pile.Account) ([]byte, error) {
	keys := pile.Keys(sorted)
	if len(keys) == 0 {
		return pack.Write(form, d, path, nil)
	}
	var written []byte
	var err error
	for _, key := range keys {
		if written, err = pack.Write(form, d, path, key); err == nil {
			break
		}
	}
	return written, err
}

// theLeaf returns the only certificate of a pile that is no authority.
func theLeaf(all []*cert.Certificate) (*cert.Certificate, error) {
	var leaves []*cert.Certificate
	for _, c := range all {
		if !c.IsAuthority() {
			leaves = append(leaves, c)
		}
	}
	switch len(leaves) {
	case 1:
		return leaves[0], nil
	case 0:
		return nil, cli.Failed("nothing was packed", "no leaf is among these files", "give the file with the signed "+
			"certificate too")
	}
	return nil, cli.Failed("nothing was packed", fmt.Sprintf("%d leaves are among these files: %s, %s …", len(leaves),
		leaves[0].ShortName(), leaves[1].ShortName()), "give the files of one leaf alone")
}
