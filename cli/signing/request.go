package signing

import (
	"encoding/pem"
	"fmt"
	"os"
	"strings"

	"freshseal/cli"
	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/pack"
	"freshseal/core/pki/request"

	"github.com/spf13/cobra"
)

// request works on files alone: it makes, shows and checks requests for boxes
// outside the fleet.
func (a *commands) request() *cobra.Command {
	return cli.Noun("request", "Requests in files; needs no service", a.requestMake(), a.requestShow(),
		a.requestCheck())
}

// planFlags returns the flags with which a request is planned.
func planFlags(c *cobra.Command, p *request.Plan) *string {
	f := c.Flags()
	f.StringArrayVar(&p.Names, "name", nil, "a DNS name or an IP address; the first becomes the common name; may "+
		"be given again")
	key := f.String("key", string(request.KeyTypes[0]), fmt.Sprintf("kind of key, one of %v", request.AllKeyTypes))
	f.BoolVar(&p.Weak, "weak", false, "allow rsa-1024 and SHA-1")
	cli.SubjectFlags(f, &p.Subject)
	c.MarkFlagRequired("name")
	return key
}

// planned completes a plan and sees that it can be asked for.
func planned(p request.Plan, key string) (request.Plan, error) {
	p.Key = request.KeyType(key)
	p = p.Complete()
	if found := p.Check(); len(found) > 0 {
		next := "correct --name, --key or the subject"
		if found[0].Code == finding.WeakKey {
			next = "choose another --key; where the box can do no better, say so with --weak"
		}
		return p, cli.Failed("this cannot be asked for", found[0].What, next)
	}
	return p, nil
}

func (a *commands) requestMake() *cobra.Command {
	var p request.Plan
	var out, keyOut, passphraseFile string
	c := &cobra.Command{
		Use: "make --name NAME --out FILE --key-out FILE", Short: "Make a key and a request for a device that cannot",
		Args: cobra.NoArgs,
		Example: "  freshseal request make --name crane.saltmere.tidewrack.example --organization \"Tidewrack " +
			"Ferries\" --out crane.csr --key-out crane.key --passphrase-file pass.txt",
	}
	key := planFlags(c, &p)
	c.RunE = func(*cobra.Command, []string) error {
		p, err := planned(p, *key)
		if err != nil {
			return err
		}
		d := pack.Options{KeyForm: pack.PKCS8}
		if passphraseFile != "" {
			d.KeyForm = pack.PKCS8Locked
			if d.Passphrase, err = a.Secret("passphrase of the key", passphraseFile, "--passphrase-file"); err != nil {
				return err
			}
		}
		made, err := request.NewKey(p.Key)
		if err != nil {
			return err
		}
		r, err := request.Make(p, made)
		if err != nil {
			return err
		}
		label, der, err := pack.KeyDER(d, made)
		if err != nil {
			return err
		}
		for _, f := range []struct {
			name    string
			content []byte
		}{{keyOut, pem.EncodeToMemory(&pem.Block{Type: label, Bytes: der})}, {out, r.PEM()}} {
			if err := writeNew(f.name, f.content); err != nil {
				return err
			}
		}
		cli.Put(a.Out, "%s: request for %s, SHA-256 %s\n%s: its key; it belongs on the box and nowhere else\n", out,
			strings.Join(r.Names(), ", "), r.SHA256(), keyOut)
		return nil
	}
	c.Flags().StringVar(&out, "out", "", "the file for the request")
	c.Flags().StringVar(&keyOut, "key-out", "", "the file for the key")
	c.Flags().StringVar(&passphraseFile, "passphrase-file", "", "lock the key with the passphrase in this file")
	c.MarkFlagRequired("out")
	c.MarkFlagRequired("key-out")
	return c
}

// writeNew writes a file that must not be there yet.
func writeNew(name string, content []byte) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return cli.Failed(name+" was not written", err.Error(), "name a new file")
	}
	_, err = f.Write(content)
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	return err
}

// readRequest reads a request from a file, PEM or DER.
func readRequest(name string) (request.Request, error) {
	content, err := cli.ReadFile(name, request.MaxSize)
	if err != nil {
		return request.Request{}, err
	}
	r, err := request.Parse(content)
	if err != nil {
		return r, cli.Failed(name+" cannot be used", err.Error(), "name a file that holds a request, PEM or DER")
	}
	return r, nil
}

func (a *commands) requestShow() *cobra.Command {
	return &cobra.Command{
		Use: "show FILE", Short: "Decode a request, PEM or DER", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			r, err := readRequest(args[0])
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"what", "value"}}
			t.Add("subject", cert.NameText(r.Subject))
			t.Add("names", strings.Join(r.Names(), ", "))
			t.Add("key", r.Key())
			t.Add("signature", r.SignatureAlgorithm.String()+", holds")
			t.Add("SHA-256", r.SHA256())
			t.Add("key SHA-256", cert.Fingerprint(r.SPKI()))
			shown := map[string]any{"subject": cert.NameText(r.Subject), "names": r.Names(), "key": r.Key(),
				"signature": r.SignatureAlgorithm.String(),
				"sha256":    r.SHA256(), "key_sha256": cert.Fingerprint(r.SPKI()), "pem": string(r.PEM())}
			return a.Print(shown, t)
		},
	}
}

func (a *commands) requestCheck() *cobra.Command {
	var p request.Plan
	c := &cobra.Command{
		Use: "check FILE --name NAME", Short: "Compare a request with what it should contain, before it is signed",
		Args: cobra.ExactArgs(1),
	}
	key := planFlags(c, &p)
	var public bool
	c.Flags().BoolVar(&public, "public", false, "the signer is publicly trusted: no internal names")
	c.RunE = func(_ *cobra.Command, args []string) error {
		p, err := planned(p, *key)
		if err != nil {
			return err
		}
		r, err := readRequest(args[0])
		if err != nil {
			return err
		}
		found := request.Check(p, r)
		if public {
			found = append(found, request.Unsignable(r.Names(), request.PublicSigner)...)
		}
		if a.As == "table" {
			cli.PrintFindings(a.Out, "", found)
			if len(found) == 0 {
				cli.Putln(a.Out, "it says what was planned")
			}
		} else {
			t := cli.Table{Head: []string{"code", "severity", "what", "remedy"}}
			for _, f := range found {
				t.Add(string(f.Code), string(f.Severity), f.What, f.Remedy)
			}
			if err := a.Print(append([]finding.Finding{}, found...), t); err != nil {
				return err
			}
		}
		if len(finding.Errors(found)) > 0 {
			return cli.FoundWrong
		}
		return nil
	}
	return c
}
