package people

import (
	"context"
	"crypto/tls"
	"fmt"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/pki/cert"
	"freshseal/pin"

	"github.com/spf13/cobra"
)

func (a *commands) login() *cobra.Command {
	var user, passwordFile, codeFile, pin string
	c := &cobra.Command{
		Use: "login URL", Short: "Sign in to a service and pin its certificate", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			u, err := url.Parse(args[0])
			if err != nil || u.Scheme != "https" || u.Host == "" {
				return cli.Misuse(fmt.Sprintf("%q is no address of a service", args[0]), "it must begin with https://",
					"give it as https://HOST:PORT")
			}
			shown, err := shownCertificate(c.Context(), u)
			if err != nil {
				return cli.Unreachable(args[0], err)
			}
			pin = strings.ToLower(strings.ReplaceAll(pin, ":", ""))
			switch {
			case pin != "" && pin != shown.SHA256:
				return cli.Failed("you are not signed in", "the service shows the certificate "+shown.SHA256+
					", not the one you named", "find out which is right before you go on")
			case pin == "":
				if err := a.Confirm(cli.Question("SHA-256 of the certificate that the service shows:\n\n  %s\n\nIt "+
					"calls itself “%s”. Is the SHA-256 the right one?", shown.SHA256, shown.ShortName()),
					"name it with --certificate SHA256"); err != nil {
					return err
				}
			}
			password, err := a.Secret("password of "+user, passwordFile, "--password-file")
			if err != nil {
				return err
			}
			f := cli.ClientFile{URL: "https://" + u.Host, Certificate: shown.SHA256}
			var session contract.Session
			given := contract.SignIn{User: user, Password: password, Client: true}
			signIn := func() error {
				return cli.NewClient(f).Do(c.Context(), "POST", cli.V1+"/session", given, &session)
			}
			if err = signIn(); cli.NeedsCode(err) {
				if given.Code, err = a.Secret("code of the authenticator of "+user, codeFile,
					"--code-file"); err == nil {
					err = signIn()
				}
			}
			if err != nil {
				return err
			}
			f.Token = session.Token
			path, err := a.ClientPath()
			if err != nil {
				return err
			}
			if err := cli.WriteClientFile(path, f); err != nil {
				return cli.Failed("the client's file cannot be written", err.Error(), "name another place "+
					"with --config")
			}
			cli.Put(a.Out, "signed in as %s until %s; kept in %s\n", session.User, cli.Moment(session.EndsAt), path)
			if session.MustSetUp {
				cli.Putln(a.Out, "your role needs a second factor, and you have none: freshseal factor add")
			}
			return nil
		},
	}
	c.Flags().StringVar(&user, "user", "admin", "user to sign in as")
	c.Flags().StringVar(&passwordFile, "password-file", "", "read the password from this file (- for standard input)")
	c.Flags().StringVar(&codeFile, "code-file", "", "read the code of your authenticator, or a recovery code, from "+
		"this file (- for standard input)")
	c.Flags().StringVar(&pin, "certificate", "", "SHA-256 of the service's certificate, if you know it")
	return c
}

func (a *commands) logout() *cobra.Command {
	return &cobra.Command{
		Use: "logout", Short: "Revoke this client's token", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			if err := client.Do(ctx, "DELETE", cli.V1+"/session", nil, nil); err != nil {
				return err
			}
			path, err := a.ClientPath()
			if err != nil {
				return err
			}
			cli.Putln(a.Out, "signed out")
			return os.Remove(path)
		}),
	}
}

// shownCertificate asks a service for its certificate without trusting it.
func shownCertificate(ctx context.Context, u *url.URL) (*cert.Certificate, error) {
	host := u.Host
	if u.Port() == "" {
		host += ":443"
	}
	d := tls.Dialer{Config: pin.Config(pin.Unknown)}
	conn, err := d.DialContext(ctx, "tcp", host)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	return cert.Parse(conn.(*tls.Conn).ConnectionState().PeerCertificates[0].Raw)
}

func (a *commands) status() *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "Show a summary of the fleet", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			var s contract.Status
			if err := client.Do(ctx, "GET", cli.V1+"/status", nil, &s); err != nil {
				return err
			}
			t := cli.Table{Head: []string{"condition", "slots"}}
			for _, condition := range cli.Conditions {
				if n := s.Conditions[due.Condition(condition)]; n > 0 || a.As == "csv" {
					t.Add(due.Condition(condition), fmt.Sprint(n))
				}
			}
			if err := a.Print(s, t); err != nil || a.As != "table" {
				return err
			}
			cli.Put(a.Out, "\n%d slots; %d replacements under way, %d waiting, %d held\n", s.Slots, s.UnderWay,
				s.Waiting,
				s.Held)
			if s.Judging != nil {
				cli.Put(a.Out, "judging the fleet again: %d of %d slots\n", s.Judging.Judged, s.Judging.Slots)
			}
			for _, whom := range slices.Sorted(maps.Keys(s.WaitingFor)) {
				cli.Put(a.Out, "  %d for %s\n", s.WaitingFor[whom], whom.Text())
			}
			if s.PendingPins > 0 {
				cli.Put(a.Out, "%d pins pending: freshseal pin pending\n", s.PendingPins)
			}
			for _, p := range s.Late {
				cli.Put(a.Out, "LATE %s with %d requests: %s\n", p.ID, p.Open, p.Reminder)
			}
			cli.Put(a.Out, "signed in to %s as %s\n", client.File.URL, s.User)
			return nil
		}),
	}
}
