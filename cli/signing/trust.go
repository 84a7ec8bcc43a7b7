package signing

import (
	"context"
	"fmt"
	"os"
	"strings"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/trust"

	"github.com/spf13/cobra"
)

func (a *commands) trustGroup() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List trust groups", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			all, err := cli.ListOf[contract.TrustGroup](ctx, client, "/trust-groups")
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"trust-group", "roots"}}
			for _, each := range all {
				t.Add(each.Name, fmt.Sprint(each.Roots))
			}
			return a.Print(all, t)
		}),
	}
	show := &cobra.Command{
		Use: "show NAME", Short: "List the roots that a trust group trusts", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			roots, err := cli.ListOf[cert.Facts](ctx, client, "/trust-groups"+cli.Item(args[0])+"/anchors")
			if err != nil {
				return err
			}
			return a.Print(roots, rootTable(roots))
		}),
	}
	var system bool
	var authority string
	add := &cobra.Command{
		Use: "add NAME FILE|--system|--from-authority SHA256", Short: "Add roots to a trust group; slots are " +
			"judged by the trust group fleet", Args: cobra.RangeArgs(1, 2),
		Example: "  freshseal trust-group add fleet root.pem\n  freshseal trust-group add workstations --system\n  " +
			"freshseal trust-group add fleet --from-authority 5a1c…",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			text, err := a.rootsFrom(ctx, client, args[1:], system, authority)
			if err != nil {
				return err
			}
			known, err := trustGroupRevision(ctx, client, args[0])
			if err != nil {
				return err
			}
			var page struct {
				Items []cert.Facts `json:"items"`
			}
			if err := client.Change(ctx, "POST", cli.V1+"/trust-groups"+cli.Item(args[0])+"/anchors", known,
				map[string]string{"pem": string(text)}, &page); err != nil {
				return err
			}
			return a.Print(page.Items, rootTable(page.Items))
		}),
	}
	add.Flags().BoolVar(&system, "system", false, "the roots in this system's trust store")
	add.Flags().StringVar(&authority, "from-authority", "", "a root that is known already, by its SHA-256; see: "+
		"freshseal authority list")
	remove := &cobra.Command{
		Use: "remove NAME SHA256", Short: "Remove a root from a trust group", Args: cobra.ExactArgs(2),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			known, err := trustGroupRevision(ctx, client, args[0])
			if err != nil {
				return err
			}
			return client.Change(ctx, "DELETE", cli.V1+"/trust-groups"+cli.Item(args[0])+"/anchors"+cli.Item(args[1]),
				known, nil,
				nil)
		}),
	}
	return cli.Noun("trust-group", "Groups of clients and the roots they trust", list, show, add, remove,
		a.trustGroupExport())
}

// rootsFrom reads the roots to be added, as PEM: from a file, the system, or what is known.
func (a *commands) rootsFrom(ctx context.Context, client *cli.Client, named []string, system bool,
	authority string) ([]byte, error) {
	if authority != "" {
		if len(named) > 0 || system {
			return nil, cli.Misuse("it is not clear which roots are meant", "--from-authority stands beside a file "+
				"or --system", "name one of them")
		}
		return client.Fetched(ctx, cli.V1+"/authorities"+cli.Item(authority)+"/exports",
			contract.Export{Form: string(trust.PEM)})
	}
	file, err := rootsFile(named, system)
	if err != nil {
		return nil, err
	}
	return a.roots(file)
}

// trustGroupRevision returns the revision of a trust group; 0 if there is none yet.
func trustGroupRevision(ctx context.Context, client *cli.Client, name string) (contract.Revision, error) {
	all, err := cli.ListOf[contract.TrustGroup](ctx, client, "/trust-groups")
	for _, each := range all {
		if each.Name == name {
			return each.Revision, err
		}
	}
	return 0, err
}

// systemRoots are where systems keep the roots that they trust.
var systemRoots = []string{"/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt",
	"/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem", "/etc/ssl/ca-bundle.pem", "/etc/ssl/cert.pem"}

// rootsFile returns the file that is named, or the system's own.
func rootsFile(named []string, system bool) (string, error) {
	if system == (len(named) == 1) {
		return "", cli.Misuse("it is not clear which roots are meant", "either a file or --system must be named",
			"see: freshseal trust-group add --help")
	}
	if !system {
		return named[0], nil
	}
	for _, file := range append([]string{os.Getenv("SSL_CERT_FILE")}, systemRoots...) {
		if _, err := os.Stat(file); err == nil {
			return file, nil
		}
	}
	return "", cli.Failed("this machine has no list of roots", "none of "+strings.Join(systemRoots, ", ")+" is there",
		"install ca-certificates, or name a file")
}

// roots reads the certificates of a file as PEM.
func (a *commands) roots(name string) ([]byte, error) {
	files, err := a.readPile([]string{name})
	if err != nil {
		return nil, err
	}
	sorted, err := pile.Sort(files, pile.Options{})
	if err != nil {
		return nil, cli.Failed("no anchor was added", err.Error(), "give one root")
	}
	var text []byte
	for _, root := range pile.Certificates(sorted) {
		text = append(text, root.PEM()...)
	}
	if len(text) == 0 {
		return nil, cli.Failed("no anchor was added", name+" holds no certificate: "+sorted[0].Holds[0].Note,
			"give a root as PEM or DER")
	}
	return text, nil
}

func (a *commands) trustGroupExport() *cobra.Command {
	c, e := a.exporting("NAME", "Export the roots of a trust group in the form that a kind of client needs",
		"/trust-groups")
	c.Flags().StringVar(&e.LackedBy, "lacked-by", "", "only the roots that this trust group lacks")
	return c
}

// exporting returns a command that writes roots to a file, those of what it is given below a path of the API.
func (a *commands) exporting(what, short, below string) (*cobra.Command, *contract.Export) {
	e := &contract.Export{}
	var out, passphraseFile string
	c := &cobra.Command{
		Use: "export " + what + " --form FORM --out FILE", Short: short, Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			if passphraseFile != "" {
				var err error
				if e.Passphrase, err = a.Secret("passphrase of the store", passphraseFile,
					"--passphrase-file"); err != nil {
					return err
				}
			}
			header, err := client.Exported(ctx, cli.V1+below+cli.Item(args[0])+"/exports", *e, out)
			if err != nil {
				return err
			}
			cli.Put(a.Out, "%s is written\n  what to do: %s\n", out, header.Get("Instruction"))
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&e.Form, "form", string(trust.PEM), fmt.Sprintf("one of %v", trust.Forms))
	f.StringVar(&out, "out", "", "the file to write")
	f.StringVar(&passphraseFile, "passphrase-file", "", "read the passphrase of a PKCS #12 trust store from this file")
	c.MarkFlagRequired("out")
	return c, e
}
