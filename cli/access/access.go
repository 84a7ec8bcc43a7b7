package access

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/language/procedure"

	"github.com/spf13/pflag"
)

const pinHelp = `the host key, "TYPE SHA256:…", or over https the SHA-256 of the certificate; asked for and shown when left out`

// Flags are the flags with which it is said how a device is reached over a link.
type Flags struct {
	Prefix                                string // of the flags' names
	passwordFile, keyFile, passphraseFile string

	link, address, user, credential, pin string
	port                                 int
	options                              []string
}

func (x *Flags) Flags(f *pflag.FlagSet) {
	f.StringVar(&x.link, "link", "", "the link to which the access flags apply (default: the first link of the family)")
	f.StringVar(&x.address, "link-address", "", "address of the link, if it differs from the device's")
	f.IntVar(&x.port, "port", 0, "port of the link (default: 22 for ssh, 443 for https, 830 for netconf)")
	f.StringVar(&x.credential, "credential", "", "a shared credential to sign in with")
	f.StringVar(&x.pin, "pin", "", pinHelp)
	f.StringArrayVar(&x.options, "option", nil, "NAME=VALUE, such as old_algorithms=yes to allow insecure SSH "+
		"algorithms, or over https old_tls=yes; may be given again")
	x.secretFlags(f, &x.user, "")
}

func (x *Flags) secretFlags(f *pflag.FlagSet, user *string, of string) {
	f.StringVar(user, x.Prefix+"user", "", "user to sign in as"+strings.Replace(of, " of ", " over ", 1))
	f.StringVar(&x.passwordFile, x.Prefix+"password-file", "", "read that user's password from this file (- for "+
		"standard input)")
	f.StringVar(&x.keyFile, x.Prefix+"key-file", "", "read that user's private key from this file")
	f.StringVar(&x.passphraseFile, x.Prefix+"passphrase-file", "", "read that key's passphrase from this file")
}

// Given reports whether any of the flags was used.
func (x *Flags) Given(f *pflag.FlagSet) bool {
	return slices.ContainsFunc([]string{"link", "link-address", "port", "credential", "pin", "option", "user",
		"password-file", "key-file"}, f.Changed)
}

// Change returns what the flags say, secrets apart.
func (x *Flags) Change(f *pflag.FlagSet) (contract.AccessChange, error) {
	c := contract.AccessChange{Link: x.link}
	for flag, to := range map[string]struct {
		to   **string
		from *string
	}{"link-address": {&c.Address, &x.address}, "user": {&c.User, &x.user},
		"credential": {&c.Credential, &x.credential}, "pin": {&c.Pin, &x.pin}} {
		if f.Changed(x.Prefix + flag) {
			*to.to = to.from
		}
	}
	if f.Changed(x.Prefix + "port") {
		c.Port = &x.port
	}
	var err error
	c.Options, err = cli.PairsOf("--option", x.options)
	return c, err
}

// secrets reads the secrets of who signs in; a password that is in no file is asked for.
func (x *Flags) secrets(a *cli.App, who string) (contract.Secrets, error) {
	out, err := x.fromFiles(a, who)
	if err == nil && out.Key == "" && out.Password == "" {
		out.Password, err = a.Secret("password of "+who, "", "--password-file or --key-file")
	}
	return out, err
}

// fromFiles reads the secrets that are in files.
func (x *Flags) fromFiles(a *cli.App, who string) (contract.Secrets, error) {
	var out contract.Secrets
	if x.keyFile != "" {
		text, err := os.ReadFile(x.keyFile)
		if err != nil {
			return out, cli.Failed("the key cannot be read", err.Error(), "name the right file with --key-file")
		}
		out.Key = string(text)
	}
	var err error
	if x.passphraseFile != "" {
		if out.Passphrase, err = a.Secret("passphrase of the key", x.passphraseFile, "--passphrase-file"); err != nil {
			return out, err
		}
	}
	if x.passwordFile != "" {
		out.Password, err = a.Secret("password of "+who, x.passwordFile, "--password-file")
	}
	return out, err
}

// hostKey returns the pin that was given, or asks the device for its host key and the
// user whether it is the right one.
func (x *Flags) hostKey(a *cli.App, ctx context.Context, client *cli.Client, link, pin, site, address string,
	port int) (string, error) {
	if pin != "" {
		return pin, nil
	}
	var shown struct {
		HostKey string `json:"host_key"`
	}
	ask := map[string]any{"link": link, "site": site, "address": address, "port": port}
	if err := client.Do(ctx, "POST", cli.V1+"/host-keys", ask, &shown); err != nil {
		return "", err
	}
	what := map[string]string{procedure.SSH: "the host key", procedure.NETCONF: "the host key",
		procedure.HTTPS: "a certificate with the SHA-256"}[link]
	return shown.HostKey, a.Confirm(cli.Question("%s shows %s\n  %s\nCompare it with its own console. Is that the "+
		"right one?", address, what, shown.HostKey),
		fmt.Sprintf("compare what %s shows with its own console, and give it: --pin %q", address, shown.HostKey))
}

// Fill completes a new access: the secrets and the host key that signing in needs.
func (x *Flags) Fill(a *cli.App, ctx context.Context, client *cli.Client, c *contract.AccessChange, site,
	address string) error {
	if c.Address != nil && *c.Address != "" {
		address = *c.Address
	}
	if c.Link == "" {
		c.Link = procedure.SSH
	}
	port := procedure.UsualPort(c.Link)
	if c.Port != nil {
		port = *c.Port
	}
	var err error
	if c.Credential == nil {
		if c.Secrets, err = x.secrets(a, x.user+" at "+address); err != nil {
			return err
		}
	}
	pin, err := x.hostKey(a, ctx, client, c.Link, x.pin, site, address, port)
	c.Pin = &pin
	return err
}

// SecondFlags are the same for the second link of a family that needs two.
func (x *Flags) SecondFlags(f *pflag.FlagSet) {
	const of = " of the family's second link, where it needs two"
	f.StringVar(&x.address, x.Prefix+"link-address", "", "address"+of+", if it differs from the device's")
	f.IntVar(&x.port, x.Prefix+"port", 0, "port"+of)
	f.StringVar(&x.credential, x.Prefix+"credential", "", "a shared credential"+of)
	f.StringVar(&x.pin, x.Prefix+"pin", "", "pin"+of)
	x.secretFlags(f, &x.user, of)
}

// SignsIn returns the links over which somebody signs in to devices of this family.
func SignsIn(ctx context.Context, client *cli.Client, family string) ([]string, error) {
	if family == "" {
		return nil, nil
	}
	var p contract.Procedure
	err := client.Do(ctx, "GET", cli.V1+"/procedures"+cli.Item(family), nil, &p)
	return slices.DeleteFunc(p.Links, func(link string) bool {
		return !slices.Contains(procedure.SignedIn(), link)
	}), err
}

// Edit adds to a change of a device how it is reached, where flags say so.
func (x *Flags) Edit(a *cli.App, f *pflag.FlagSet, name string, c *contract.DeviceChange) error {
	if !x.Given(f) {
		return nil
	}
	change, err := x.Change(f)
	if err != nil {
		return err
	}
	if change.Secrets, err = x.fromFiles(a, name); err != nil {
		return err
	}
	c.Access = []contract.AccessChange{change}
	return nil
}

func Rows(t *cli.Table, all []contract.Access) {
	for _, each := range all {
		who := each.User
		if each.Credential != "" {
			who = "credential " + each.Credential
		}
		at := fmt.Sprintf("port %d", each.Port)
		if each.Address != "" {
			at = each.Address + ", " + at
		}
		for name, value := range each.Options {
			at += ", " + name + "=" + value
		}
		t.Add(each.Link, who+", "+at)
		t.Add(each.Link+" pin", each.Pin)
	}
}
