package signing

import (
	"fmt"
	"strings"
	"time"

	"freshseal/cli"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/inspect"
	"freshseal/core/pki/pile"

	"github.com/spf13/cobra"
)

func (a *commands) inspect() *cobra.Command {
	var anchors []string
	var leaf, at string
	var passphraseFiles []string
	t := inspect.Terms{}
	c := &cobra.Command{
		Use: "inspect FILE…", Short: "Show what files contain and judge their chains; needs no service",
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			t.At = time.Now()
			if at != "" {
				var err error
				if t.At, err = time.Parse(time.RFC3339, at); err != nil {
					return cli.Misuse(fmt.Sprintf("--at %s is no time", at), "", "write it as 2026-01-31T12:00:00Z")
				}
			}
			var err error
			if t.Anchors, err = a.certificates(anchors, "--anchor"); err != nil {
				return err
			}
			if leaf != "" {
				if t.Leaves, err = a.certificates([]string{leaf}, "--leaf"); err != nil {
					return err
				}
				t.Leaves = t.Leaves[:1]
				args = append(args, leaf)
			}
			files, err := a.readPile(args)
			if err != nil {
				return err
			}
			if t.Passphrases, err = a.passphrases(passphraseFiles); err != nil {
				return err
			}
			account, err := inspect.Files(files, t)
			if err != nil {
				return cli.Failed("the pile was not inspected", err.Error(), "split it")
			}
			if err := a.printAccount(account); err != nil {
				return err
			}
			if account.Wrong() {
				return cli.FoundWrong
			}
			return nil
		},
	}
	c.Flags().StringArrayVar(&anchors, "anchor", nil, "a file with trusted roots; may be given again")
	c.Flags().StringVar(&leaf, "leaf", "", "the file whose first certificate is to be judged (default: every "+
		"leaf found)")
	passphraseFlag(c, &passphraseFiles)
	c.Flags().StringArrayVar(&t.Names, "for", nil, "a name that the certificate must include; may be given again")
	c.Flags().StringVar(&at, "at", "", "judge at this time (RFC 3339) instead of now")
	return c
}

// passphraseFlag is the flag of the commands that open PKCS #12 stores and locked keys.
func passphraseFlag(c *cobra.Command, files *[]string) {
	c.Flags().StringArrayVar(files, "passphrase-file", nil, "read the passphrases of PKCS #12 stores and locked "+
		"keys from this file, one a line (- for standard input); may be given again")
}

// passphrases reads the passphrases that a pile needs, if there are any.
func (a *commands) passphrases(files []string) ([]string, error) {
	var out []string
	for _, file := range files {
		text, err := a.Secret("passphrase", file, "--passphrase-file")
		if err != nil {
			return nil, err
		}
		for line := range strings.Lines(text) {
			if line = strings.TrimRight(line, "\r\n"); line != "" {
				out = append(out, line)
			}
		}
	}
	return out, nil
}

// certificates reads files that must hold certificates.
func (a *commands) certificates(names []string, flag string) ([]*cert.Certificate, error) {
	var out []*cert.Certificate
	for _, name := range names {
		files, err := a.readPile([]string{name})
		if err != nil {
			return nil, err
		}
		sorted, err := pile.Sort(files, pile.Options{})
		if err != nil {
			return nil, err
		}
		found := pile.Certificates(sorted)
		if len(found) == 0 {
			return nil, cli.Failed(name+" holds no certificate", sorted[0].Holds[0].Note, "name another file with "+
				flag)
		}
		out = append(out, found...)
	}
	return out, nil
}

func (a *commands) printAccount(account inspect.Account) error {
	t := cli.Table{Head: []string{"file", "kind", "subject", "sha256", "note"}}
	for _, f := range account.Files {
		for _, i := range f.Holds {
			t.Add(f.Name, string(i.Kind), i.Subject, i.SHA256, i.Note)
		}
	}
	if a.As != "table" {
		return a.Print(account, t)
	}
	printPile(a.Out, account.Files)
	for _, c := range account.Chains {
		cli.Put(a.Out, "\nchain of %s\n", c.Subject)
		if len(c.Drawn.Certificates) > 0 {
			cli.ShowFacts(a.Out, "  ", c.Drawn.Certificates[0].Facts())
		}
		for i, each := range c.Drawn.Certificates {
			cli.Put(a.Out, "  %s%s (to %s)\n", strings.Repeat("  ", i), each.ShortName(),
				each.NotAfter.UTC().Format("2006-01-02"))
		}
		cli.Put(a.Out, "  complete: %s, valid to a given anchor: %s\n", cli.Yes(c.Complete), cli.Yes(c.Valid))
		cli.PrintFindings(a.Out, "  ", c.Findings)
	}
	return nil
}
