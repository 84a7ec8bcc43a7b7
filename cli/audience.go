package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"freshseal/core/audience"
	"freshseal/core/cert"
	"freshseal/core/pile"
	"freshseal/service"

	"github.com/spf13/cobra"
)

func (a *app) audience() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List audiences", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			all, err := listOf[service.Audience](ctx, client, "/audiences")
			if err != nil {
				return err
			}
			t := table{head: []string{"audience", "roots"}}
			for _, each := range all {
				t.add(each.Name, fmt.Sprint(each.Roots))
			}
			return a.print(all, t)
		}),
	}
	show := &cobra.Command{
		Use: "show NAME", Short: "List the roots that an audience trusts", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			roots, err := listOf[cert.Facts](ctx, client, "/audiences"+item(args[0])+"/anchors")
			if err != nil {
				return err
			}
			return a.print(roots, rootTable(roots))
		}),
	}
	var system bool
	add := &cobra.Command{
		Use: "add NAME FILE|--system", Short: "Let an audience trust the roots in a file; fleet is the one that conditions follow", Args: cobra.RangeArgs(1, 2),
		Example: "  freshseal audience add fleet root.pem\n  freshseal audience add workstations --system",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			file, err := rootsFile(args[1:], system)
			if err != nil {
				return err
			}
			text, err := a.roots(file)
			if err != nil {
				return err
			}
			var page struct {
				Items []cert.Facts `json:"items"`
			}
			if err := client.do(ctx, "POST", v1+"/audiences"+item(args[0])+"/anchors", map[string]string{"pem": string(text)}, &page); err != nil {
				return err
			}
			return a.print(page.Items, rootTable(page.Items))
		}),
	}
	add.Flags().BoolVar(&system, "system", false, "the roots that this machine trusts")
	remove := &cobra.Command{
		Use: "remove NAME SHA256", Short: "Let an audience trust a root no more", Args: cobra.ExactArgs(2),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/audiences"+item(args[0])+"/anchors"+item(args[1]), nil, nil)
		}),
	}
	return noun("audience", "Groups of clients and the roots they trust", list, show, add, remove, a.audienceExport())
}

// systemRoots are where systems keep the roots that they trust.
var systemRoots = []string{"/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt", "/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem", "/etc/ssl/ca-bundle.pem", "/etc/ssl/cert.pem"}

// rootsFile is the file that is named, or the system's own.
func rootsFile(named []string, system bool) (string, error) {
	if system == (len(named) == 1) {
		return "", misuse("it is not clear which roots are meant", "either a file or --system must be named", "see: freshseal audience add --help")
	}
	if !system {
		return named[0], nil
	}
	for _, file := range append([]string{os.Getenv("SSL_CERT_FILE")}, systemRoots...) {
		if _, err := os.Stat(file); err == nil {
			return file, nil
		}
	}
	return "", failed("this machine has no list of roots", "none of "+strings.Join(systemRoots, ", ")+" is there", "install ca-certificates, or name a file")
}

// roots reads the certificates of a file as PEM.
func (a *app) roots(name string) ([]byte, error) {
	files, err := a.readPile([]string{name})
	if err != nil {
		return nil, err
	}
	sorted, err := pile.Sort(files, pile.Options{})
	if err != nil {
		return nil, failed("no anchor was added", err.Error(), "give one root")
	}
	var text []byte
	for _, root := range pile.Certificates(sorted) {
		text = append(text, root.PEM()...)
	}
	if len(text) == 0 {
		return nil, failed("no anchor was added", name+" holds no certificate: "+sorted[0].Holds[0].Note, "give a root as PEM or DER")
	}
	return text, nil
}

func (a *app) audienceExport() *cobra.Command {
	var e service.Export
	var out, passphraseFile string
	c := &cobra.Command{
		Use: "export NAME --form FORM --out FILE", Short: "Write an audience's roots as a kind of client takes them", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			if passphraseFile != "" {
				var err error
				if e.Passphrase, err = a.secret("passphrase of the store", passphraseFile, "--passphrase-file"); err != nil {
					return err
				}
			}
			header, err := client.exported(ctx, v1+"/audiences"+item(args[0])+"/exports", e, out)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is written\n  what to do: %s\n", out, header.Get("Instruction"))
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&e.Form, "form", string(audience.PEM), fmt.Sprintf("one of %v", audience.Forms))
	f.StringVar(&e.LackedBy, "lacked-by", "", "only the roots that this other audience lacks")
	f.StringVar(&out, "out", "", "the file to write")
	f.StringVar(&passphraseFile, "passphrase-file", "", "read the passphrase of a PKCS #12 trust store from this file")
	c.MarkFlagRequired("out")
	return c
}
