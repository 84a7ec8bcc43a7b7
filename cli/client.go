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

// clientFile is what the client keeps between calls. Its token lets in, so the
// file is its owner's alone.
type clientFile struct {
	URL         string `yaml:"url"`
	Certificate string `yaml:"certificate"` // SHA-256 of the service's certificate, pinned at login
	Token       string `yaml:"token"`
}

func (a *app) clientPath() (string, error) {
	if a.config != "" {
		return a.config, nil
	}
	if path := os.Getenv("FRESHSEAL_CONFIG"); path != "" {
		return path, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", failed("there is no place for the client's file", err.Error(), "name one with --config")
	}
	return filepath.Join(dir, "freshseal", "client.yaml"), nil
}

func writeClientFile(path string, f clientFile) error {
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

// client calls the API.
type client struct {
	path string // of the client's file
	err  io.Writer
	file clientFile
	http *http.Client
}

func (a *app) client() (*client, error) {
	path, err := a.clientPath()
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, failed("you are not signed in", "there is no file "+path, "freshseal login https://HOST:PORT, "+
			"or name the file with --config")
	}
	if err != nil {
		return nil, failed("the client's file cannot be read", err.Error(), "name another one with --config")
	}
	var f clientFile
	if err := yaml.Unmarshal(text, &f); err != nil || f.URL == "" {
		return nil, failed("the client's file "+path+" is damaged", "", "make it anew: freshseal login "+
			"https://HOST:PORT")
	}
	c := newClient(f)
	c.path, c.err = path, a.err
	return c, nil
}

const otherCertificate = "the service shows another certificate than the one pinned at login"

// newClient trusts the pinned certificate alone or, with none pinned, what the
// system trusts.
func newClient(f clientFile) *client {
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if f.Certificate != "" {
		config = pin.Config(pin.To(f.Certificate))
	}
	return &client{file: f, err: io.Discard, http: &http.Client{Transport: &http.Transport{TLSClientConfig: config}}}
}

// do sends a request and decodes the answer into out, unless it is nil.
func (c *client) do(ctx context.Context, method, path string, in, out any) error {
	return c.exchange(ctx, method, path, http.Header{}, in, out)
}

// change is do for what somebody else may change too: the service refuses it when
// it is of another revision by now.
func (c *client) change(ctx context.Context, method, path string, known contract.Revision, in, out any) error {
	return c.exchange(ctx, method, path, http.Header{"If-Match": {fmt.Sprintf(`"%d"`, known)}}, in, out)
}

func (c *client) exchange(ctx context.Context, method, path string, header http.Header, in, out any) error {
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(text)
		header.Set("Content-Type", "application/json")
	}
	answer, err := c.send(ctx, method, path, header, body)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(answer.Body).Decode(out); err != nil {
		return failed("the answer of the service cannot be read", err.Error(), "see that client and service are of "+
			"one version")
	}
	return nil
}

func (c *client) once(ctx context.Context, method, path string, header http.Header,
	body io.Reader) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(c.file.URL, "/")+path, body)
	if err != nil {
		return nil, err
	}
	maps.Copy(r.Header, header)
	r.Header.Set("Authorization", "Bearer "+c.file.Token)
	return c.http.Do(r)
}

// send sends a request; an answer that is a problem becomes an error.
func (c *client) send(ctx context.Context, method, path string, header http.Header,
	body io.Reader) (*http.Response, error) {
	answer, err := c.once(ctx, method, path, header, body)
	if errors.As(err, new(pin.Changed)) && c.follow(ctx) == nil {
		if again, ok := body.(io.Seeker); ok {
			again.Seek(0, io.SeekStart)
		}
		answer, err = c.once(ctx, method, path, header, body)
	}
	if err != nil {
		return nil, unreachable(c.file.URL, err)
	}
	if answer.StatusCode < 300 {
		return answer, nil
	}
	defer answer.Body.Close()
	var p contract.Problem
	if err := json.NewDecoder(io.LimitReader(answer.Body, 1<<20)).Decode(&p); err != nil || p.Title == "" {
		return nil, failed("the service answers "+answer.Status, "", "check that the address is that of a Fresh "+
			"Seal service: "+c.file.URL)
	}
	return nil, failed(p.Title, p.Detail, advice(p.Next, p.Actions))
}

func unreachable(at string, err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	var unknown x509.UnknownAuthorityError
	switch {
	case errors.Is(err, context.Canceled):
		return err
	case errors.As(err, new(pin.Changed)):
		return failed("the service was not called", otherCertificate, "if it has a new certificate: freshseal login "+
			at)
	case errors.As(err, &unknown):
		return failed("the service was not called", "its certificate is not trusted", "freshseal login "+at+
			", which shows and pins it")
	case errors.Is(err, syscall.ECONNREFUSED):
		return failed("no service answers at "+at, "the connection is refused", "start it: freshseal serve --dir "+
			"DIR; or give the right address: freshseal login URL")
	}
	return failed("the service at "+at+" cannot be reached", err.Error(), "see that it runs and that the "+
		"address is right")
}

// download writes what an address answers with into a new file, or to out for "-".
func (c *client) download(ctx context.Context, path, name string, out io.Writer) error {
	answer, err := c.send(ctx, "GET", path, nil, nil)
	if err != nil {
		return err
	}
	return save(answer, name, out)
}

// saveAs downloads into a new file and says so, or to standard output for "-".
func (a *app) saveAs(ctx context.Context, c *client, path, name string) error {
	err := c.download(ctx, path, name, a.out)
	if err == nil && name != "-" {
		put(a.out, "saved in %s\n", name)
	}
	return err
}

// exported asks for a file with a body and writes it into a new one; the answer's
// header says what else there is to know of it.
func (c *client) exported(ctx context.Context, path string, in any, name string) (http.Header, error) {
	answer, err := c.posted(ctx, path, in)
	if err != nil {
		return nil, err
	}
	return answer.Header, save(answer, name, nil)
}

// fetched is exported for those who go on with what comes.
func (c *client) fetched(ctx context.Context, path string, in any) ([]byte, error) {
	answer, err := c.posted(ctx, path, in)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	return io.ReadAll(io.LimitReader(answer.Body, 1<<20))
}

// posted sends JSON, and leaves the answer to be read.
func (c *client) posted(ctx context.Context, path string, in any) (*http.Response, error) {
	body, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	return c.send(ctx, "POST", path, http.Header{"Content-Type": {"application/json"}}, bytes.NewReader(body))
}

func save(answer *http.Response, name string, out io.Writer) error {
	defer answer.Body.Close()
	if name == "-" {
		_, err := io.Copy(forTerminal(out), answer.Body)
		return err
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return failed("the file cannot be written", err.Error(), "name a new file with --out")
	}
	_, err = io.Copy(f, answer.Body)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		os.Remove(name)
		return err
	}
	return nil
}

// item is an escaped part of a path.
func item(parts ...string) string {
	var out strings.Builder
	for _, p := range parts {
		out.WriteString("/" + url.PathEscape(p))
	}
	return out.String()
}

const v1 = "/api/v1"

// listOf fetches the items of a list, page after page.
func listOf[T any](ctx context.Context, c *client, path string) ([]T, error) {
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
		at := v1 + path
		if cursor != "" {
			at += join + "cursor=" + url.QueryEscape(cursor)
		}
		if err := c.do(ctx, "GET", at, nil, &page); err != nil {
			return nil, err
		}
		all = append(all, page.Items...)
		if cursor = page.Next; cursor == "" {
			return all, nil
		}
	}
}

// calling makes a command of a function that calls the service: whoever is not
// signed in is told so.
func (a *app) calling(f func(ctx context.Context, client *client, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(c *cobra.Command, args []string) error {
		client, err := a.client()
		if err != nil {
			return err
		}
		return f(c.Context(), client, args)
	}
}
