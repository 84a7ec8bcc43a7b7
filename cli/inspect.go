package cli

import (
	"fmt"
	"os"
	"strings"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/inspect"
	"freshseal/core/pki/pile"

	"github.com/spf13/cobra"
)

func (a *app) inspect() *cobra.Command {
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
					return misuse(fmt.Sprintf("--at %s is no time", at), "", "write it as 2026-01-31T12:00:00Z")
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
				return failed("the pile was not inspected", err.Error(), "split it")
			}
			if err := a.printAccount(account); err != nil {
				return err
			}
			if account.Wrong() {
				return foundWrong
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
func (a *app) passphrases(files []string) ([]string, error) {
	var out []string
	for _, file := range files {
		text, err := a.secret("passphrase", file, "--passphrase-file")
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
func (a *app) certificates(names []string, flag string) ([]*cert.Certificate, error) {
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
			return nil, failed(name+" holds no certificate", sorted[0].Holds[0].Note, "name another file with "+flag)
		}
		out = append(out, found...)
	}
	return out, nil
}

func (a *app) printAccount(account inspect.Account) error {
	t := table{head: []string{"file", "kind", "subject", "sha256", "note"}}
	for _, f := range account.Files {
		for _, i := range f.Holds {
			t.add(f.Name, string(i.Kind), i.Subject, i.SHA256, i.Note)
		}
	}
	if a.as != "table" {
		return a.print(account, t)
	}
	printPile(a.out, account.Files)
	for _, c := range account.Chains {
		put(a.out, "\nchain of %s\n", c.Subject)
		if len(c.Drawn.Certificates) > 0 {
			showFacts(a.out, "  ", c.Drawn.Certificates[0].Facts())
		}
		for i, each := range c.Drawn.Certificates {
			put(a.out, "  %s%s (to %s)\n", strings.Repeat("  ", i), each.ShortName(),
				each.NotAfter.UTC().Format("2006-01-02"))
		}
		put(a.out, "  complete: %s, valid to a given anchor: %s\n", yes(c.Complete), yes(c.Valid))
		printFindings(a.out, "  ", c.Findings)
	}
	return nil
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func readFile(name string, most int64) ([]byte, error) {
	info, err := os.Stat(name)
	if err == nil && info.Size() > most {
		return nil, failed(name+" was not read", fmt.Sprintf("it has %d bytes, more than %d", info.Size(), most),
			"see that it is the right file")
	}
	content, err := os.ReadFile(name)
	if err != nil {
		return nil, failed(name+" cannot be read", err.Error(), "name a file that is there")
	}
	return content, nil
}
