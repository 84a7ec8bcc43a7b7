package cli

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/pki/cert"
	"freshseal/pin"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

func (a *app) login() *cobra.Command {
	var user, passwordFile, pin string
	c := &cobra.Command{
		Use: "login URL", Short: "Sign in to a service and pin its certificate", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			u, err := url.Parse(args[0])
			if err != nil || u.Scheme != "https" || u.Host == "" {
				return misuse(fmt.Sprintf("%q is no address of a service", args[0]), "it must begin with https://",
					"give it as https://HOST:PORT")
			}
			shown, err := shownCertificate(c.Context(), u)
			if err != nil {
				return unreachable(args[0], err)
			}
			pin = strings.ToLower(strings.ReplaceAll(pin, ":", ""))
			switch {
			case pin != "" && pin != shown.SHA256:
				return failed("you are not signed in", "the service shows the certificate "+shown.SHA256+
					", not the one you named", "find out which is right before you go on")
			case pin == "":
				if err := a.confirm(question("SHA-256 of the certificate that the service shows:\n\n  %s\n\nIt "+
					"calls itself “%s”. Is the SHA-256 the right one?", shown.SHA256, shown.ShortName()),
					"name it with --certificate SHA256"); err != nil {
					return err
				}
			}
			password, err := a.secret("password of "+user, passwordFile, "--password-file")
			if err != nil {
				return err
			}
			f := clientFile{URL: "https://" + u.Host, Certificate: shown.SHA256}
			var session contract.Session
			if err := newClient(f).do(c.Context(), "POST", v1+"/session",
				contract.SignIn{User: user, Password: password, Client: true}, &session); err != nil {
				return err
			}
			f.Token = session.Token
			path, err := a.clientPath()
			if err != nil {
				return err
			}
			if err := writeClientFile(path, f); err != nil {
				return failed("the client's file cannot be written", err.Error(), "name another place with --config")
			}
			put(a.out, "signed in as %s until %s; kept in %s\n", session.User, moment(session.EndsAt), path)
			return nil
		},
	}
	c.Flags().StringVar(&user, "user", "admin", "user to sign in as")
	c.Flags().StringVar(&passwordFile, "password-file", "", "read the password from this file (- for standard input)")
	c.Flags().StringVar(&pin, "certificate", "", "SHA-256 of the service's certificate, if you know it")
	return c
}

func (a *app) logout() *cobra.Command {
	return &cobra.Command{
		Use: "logout", Short: "Revoke this client's token", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			if err := client.do(ctx, "DELETE", v1+"/session", nil, nil); err != nil {
				return err
			}
			path, err := a.clientPath()
			if err != nil {
				return err
			}
			putln(a.out, "signed out")
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

// question words a question; what is put into it is made visible.
func question(format string, args ...any) safe {
	var b strings.Builder
	put(&b, format, args...)
	return safe(b.String())
}

// confirm asks a person; where nobody can be asked, instead says what to give.
func (a *app) confirm(question safe, instead string) error {
	f, ok := a.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return misuse("this needs a confirmation, and there is no terminal to ask", "", instead)
	}
	put(a.err, "%s [y/N] ", question)
	answer, err := bufio.NewReader(a.in).ReadString('\n')
	if err != nil || !strings.EqualFold(strings.TrimSpace(answer), "y") {
		return failed("not confirmed, nothing was done", "", "")
	}
	return nil
}

// secret reads a secret from a file, or asks for it without echo.
func (a *app) secret(what, file, flag string) (string, error) {
	switch file {
	case "-":
		text, err := io.ReadAll(io.LimitReader(a.in, 1<<16))
		return strings.TrimRight(string(text), "\r\n"), err
	case "":
	default:
		text, err := os.ReadFile(file)
		if err != nil {
			return "", failed("the "+what+" cannot be read", err.Error(), "name the right file with "+flag)
		}
		return strings.TrimRight(string(text), "\r\n"), nil
	}
	f, ok := a.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return "", misuse("the "+what+" is not given, and nobody can be asked here", "", "name a file with "+flag)
	}
	put(a.err, "%s: ", what)
	text, err := term.ReadPassword(int(f.Fd()))
	putln(a.err)
	return string(text), err
}

func (a *app) status() *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "Show a summary of the fleet", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			var s contract.Status
			if err := client.do(ctx, "GET", v1+"/status", nil, &s); err != nil {
				return err
			}
			t := table{head: []string{"condition", "slots"}}
			for _, condition := range conditions {
				if n := s.Conditions[due.Condition(condition)]; n > 0 || a.as == "csv" {
					t.add(due.Condition(condition), fmt.Sprint(n))
				}
			}
			if err := a.print(s, t); err != nil || a.as != "table" {
				return err
			}
			put(a.out, "\n%d slots; %d replacements under way, %d waiting, %d held\n", s.Slots, s.UnderWay, s.Waiting,
				s.Held)
			if s.Judging != nil {
				put(a.out, "judging the fleet anew: %d of %d slots\n", s.Judging.Judged, s.Judging.Slots)
			}
			for _, whom := range slices.Sorted(maps.Keys(s.WaitingFor)) {
				put(a.out, "  %d for %s\n", s.WaitingFor[whom], whom.Text())
			}
			if s.PendingPins > 0 {
				put(a.out, "%d pins pending: freshseal pin pending\n", s.PendingPins)
			}
			for _, p := range s.Late {
				put(a.out, "LATE %s with %d requests: %s\n", p.ID, p.Open, p.Reminder)
			}
			put(a.out, "signed in to %s as %s\n", client.file.URL, s.User)
			return nil
		}),
	}
}
