package cli

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"freshseal/contract"
	"freshseal/pin"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
)

// ClientFile is what the client keeps between calls. Its token lets in, so the
// file is its owner's alone.
type ClientFile struct {
	URL         string `yaml:"url"`
	Certificate string `yaml:"certificate"` // SHA-256 of the service's certificate, pinned at login
	Token       string `yaml:"token"`
}

func (a *App) ClientPath() (string, error) {
	if a.config != "" {
		return a.config, nil
	}
	if path := os.Getenv("FRESHSEAL_CONFIG"); path != "" {
		return path, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", Failed("there is no place for the client's file", err.Error(), "name one with --config")
	}
	return filepath.Join(dir, "freshseal", "client.yaml"), nil
}

func WriteClientFile(path string, f ClientFile) error {
	text, err := yaml.Marshal(f)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(path+".part", text, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".part", path)
}

// Client calls the API.
type Client struct {
	path string // of the client's file
	err  io.Writer
	File ClientFile
	http *http.Client

	confirm func(ctx context.Context, c *Client) error // asks a person, where there is one; nil: there is none
}

func (a *App) Client() (*Client, error) {
	path, err := a.ClientPath()
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, Failed("you are not signed in", "there is no file "+path, "freshseal login https://HOST:PORT, "+
			"or name the file with --config")
	}
	if err != nil {
		return nil, Failed("the client's file cannot be read", err.Error(), "name another one with --config")
	}
	var f ClientFile
	if err := yaml.Unmarshal(text, &f); err != nil || f.URL == "" {
		return nil, Failed("the client's file "+path+" is damaged", "", "create it again: freshseal login "+
			"https://HOST:PORT")
	}
	c := NewClient(f)
	c.path, c.err = path, a.Err
	if a.interactive() {
		c.confirm = func(ctx context.Context, c *Client) error { return a.ConfirmAgain(ctx, c, "", "") }
	}
	return c, nil
}

const otherCertificate = "the service shows another certificate than the one pinned at login"

// NewClient trusts the pinned certificate alone or, with none pinned, what the
// system trusts.
func NewClient(f ClientFile) *Client {
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if f.Certificate != "" {
		config = pin.Config(pin.To(f.Certificate))
	}
	return &Client{File: f, err: io.Discard, http: &http.Client{Transport: &http.Transport{TLSClientConfig: config}}}
}

// Do sends a request and decodes the answer into out, unless it is nil.
func (c *Client) Do(ctx context.Context, method, path string, in, out any) error {
	return c.exchange(ctx, method, path, http.Header{}, in, out)
}

// Change is do for what somebody else may change too: the service refuses it when
// it is of another revision by now.
func (c *Client) Change(ctx context.Context, method, path string, known contract.Revision, in, out any) error {
	return c.exchange(ctx, method, path, http.Header{"If-Match": {fmt.Sprintf(`"%d"`, known)}}, in, out)
}

func (c *Client) exchange(ctx context.Context, method, path string, header http.Header, in, out any) error {
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(text)
		header.Set("Content-Type", "application/json")
	}
	answer, err := c.Send(ctx, method, path, header, body)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(answer.Body).Decode(out); err != nil {
		return Failed("the answer of the service cannot be read", err.Error(), "see that client and service are of "+
			"one version")
	}
	return nil
}

func (c *Client) once(ctx context.Context, method, path string, header http.Header,
	body io.Reader) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(c.File.URL, "/")+path, body)
	if err != nil {
		return nil, err
	}
	maps.Copy(r.Header, header)
	r.Header.Set("Authorization", "Bearer "+c.File.Token)
	return c.http.Do(r)
}

// Send sends a request; an answer that is a problem becomes an error.
func (c *Client) Send(ctx context.Context, method, path string, header http.Header,
	body io.Reader) (*http.Response, error) {
	answer, err := c.once(ctx, method, path, header, body)
	if errors.As(err, new(pin.Changed)) && c.follow(ctx) == nil {
		if again, ok := body.(io.Seeker); ok {
			again.Seek(0, io.SeekStart)
		}
		answer, err = c.once(ctx, method, path, header, body)
	}
	if err != nil {
		return nil, Unreachable(c.File.URL, err)
	}
	if answer.StatusCode < 300 {
		return answer, nil
	}
	defer answer.Body.Close()
	var p contract.Problem
	if err := json.NewDecoder(io.LimitReader(answer.Body, 1<<20)).Decode(&p); err != nil || p.Title == "" {
		return nil, Failed("the service answers "+answer.Status, "", "check that the address is that of a Fresh "+
			"Seal service: "+c.File.URL)
	}
	if p.Type == unconfirmed && c.confirm != nil {
		confirm := c.confirm
		c.confirm = nil // once
		if err := confirm(ctx, c); err != nil {
			return nil, err
		}
		if again, ok := body.(io.Seeker); ok {
			again.Seek(0, io.SeekStart)
		}
		return c.Send(ctx, method, path, header, body)
	}
	return nil, &Trouble{what: p.Title, why: p.Detail, next: Advice(p.Next, p.Actions), exit: exitFailed,
		kind: p.Type}
}

// Types of problems that the client answers by asking.
const (
	unconfirmed = "urn:freshseal:unconfirmed"
	needsCode   = "urn:freshseal:needs-code"
)

func Unreachable(at string, err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	var unknown x509.UnknownAuthorityError
	switch {
	case errors.Is(err, context.Canceled):
		return err
	case errors.As(err, new(pin.Changed)):
		return Failed("the service was not called", otherCertificate, "if it has a new certificate: freshseal login "+
			at)
	case errors.As(err, &unknown):
		return Failed("the service was not called", "its certificate is not trusted", "freshseal login "+at+
			", which shows and pins it")
	case errors.Is(err, syscall.ECONNREFUSED):
		return Failed("no service answers at "+at, "the connection is refused", "start it: freshseal serve --dir "+
			"DIR; or give the right address: freshseal login URL")
	}
	return Failed("the service at "+at+" cannot be reached", err.Error(), "see that it runs and that the "+
		"address is right")
}

// download writes what an address answers with into a new file, or to out for "-".
func (c *Client) download(ctx context.Context, path, name string, out io.Writer) error {
	answer, err := c.Send(ctx, "GET", path, nil, nil)
	if err != nil {
		return err
	}
	return Save(answer, name, out)
}

// SaveAs downloads into a new file and says so, or to standard output for "-".
func (a *App) SaveAs(ctx context.Context, c *Client, path, name string) error {
	err := c.download(ctx, path, name, a.Out)
	if err == nil && name != "-" {
		Put(a.Out, "saved in %s\n", name)
	}
	return err
}

// Exported asks for a file with a body and writes it into a new one; the answer's
// header says what else there is to know of it.
func (c *Client) Exported(ctx context.Context, path string, in any, name string) (http.Header, error) {
	answer, err := c.posted(ctx, path, in)
	if err != nil {
		return nil, err
	}
	return answer.Header, Save(answer, name, nil)
}

// Fetched returns exported for those who go on with what comes.
func (c *Client) Fetched(ctx context.Context, path string, in any) ([]byte, error) {
	answer, err := c.posted(ctx, path, in)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	return io.ReadAll(io.LimitReader(answer.Body, 1<<20))
}

// posted sends JSON, and leaves the answer to be read.
func (c *Client) posted(ctx context.Context, path string, in any) (*http.Response, error) {
	body, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	return c.Send(ctx, "POST", path, http.Header{"Content-Type": {"application/json"}}, bytes.NewReader(body))
}

func Save(answer *http.Response, name string, out io.Writer) error {
	defer answer.Body.Close()
	if name == "-" {
		_, err := io.Copy(ForTerminal(out), answer.Body)
		return err
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return Failed("the file cannot be written", err.Error(), "name a new file with --out")
	}
	_, err = io.Copy(f, answer.Body)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		os.Remove(name)
		return err
	}
	return nil
}

// Item returns an escaped part of a path.
func Item(parts ...string) string {
	var out strings.Builder
	for _, p := range parts {
		out.WriteString("/" + url.PathEscape(p))
	}
	return out.String()
}

const V1 = "/api/v1"

// ListOf fetches the items of a list, page after page.
func ListOf[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	all := []T{}
	join := "?"
	if strings.Contains(path, "?") {
		join = "&"
	}
	for cursor := ""; ; {
		var page struct {
			Items []T    `json:"items"`
			Next  string `json:"next"`
		}
		at := V1 + path
		if cursor != "" {
			at += join + "cursor=" + url.QueryEscape(cursor)
		}
		if err := c.Do(ctx, "GET", at, nil, &page); err != nil {
			return nil, err
		}
		all = append(all, page.Items...)
		if cursor = page.Next; cursor == "" {
			return all, nil
		}
	}
}

// Calling makes a command of a function that calls the service: whoever is not
// signed in is told so.
func (a *App) Calling(f func(ctx context.Context, client *Client, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(c *cobra.Command, args []string) error {
		client, err := a.Client()
		if err != nil {
			return err
		}
		return f(c.Context(), client, args)
	}
}
