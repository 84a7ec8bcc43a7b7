// Package site is the stand-in of the kind "site server": a site whose configuration names its files.
package site

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strings"

	"freshseal/standin"
	"freshseal/standin/parts"

	"mvdan.cc/sh/v3/interp"
)

var _ = standin.Register(standin.SiteServer,
	standin.Make{Faults: standin.FilesFaults, Commands: map[string]standin.Command{"sitectl": sitectl},
		Start: laySite, Power: sitePower})

const (
	siteFile    = "/etc/site/site.conf"
	siteEnabled = "/etc/site/enabled"
)

// SiteSettings are the settings of the family web-site-ssh for such a box.
var SiteSettings = map[string]string{"site": siteFile, "certificate": "/etc/site/certs/site.pem",
	"key_file": "/etc/site/private/site.key", "enable": "sitectl enable", "disable": "sitectl disable",
	"enabled": "sitectl state", "test": "sitectl test", "reload": "sitectl reload"}

// laySite lays the site as it was delivered: one directive commented out, and not enabled
// by the administrator yet, but by its maker.
func laySite(r *standin.Running) error {
	for _, folder := range []string{"/etc/site/certs", "/etc/site/private"} {
		if err := r.Root.MkdirAll(standin.Inside(folder), 0o700); err != nil {
			return err
		}
	}
	if _, err := r.Root.Stat(standin.Inside(siteFile)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return r.Root.WriteFile(standin.Inside(siteFile), []byte("# delivered\n<VirtualHost *:443>\n\tServerAdmin "+
		"nobody\n\t#SSLEngine on\n\tSSLCertificateFile "+standin.CertificateFile+"\n\tSSLCertificateKeyFile\t"+
		standin.KeyFile+
		"\n</VirtualHost>\n# the end"), 0o644)
}

var siteDirective = regexp.MustCompile(`(?m)^\s*(SSLCertificateFile|SSLCertificateKeyFile|SSLEngine)\s+(\S+)`)

func siteSettings(r *standin.Running) (map[string]string, error) {
	text, err := r.Root.ReadFile(standin.Inside(siteFile))
	set := map[string]string{}
	for _, m := range siteDirective.FindAllStringSubmatch(string(text), -1) {
		set[m[1]] = m[2]
	}
	return set, err
}

// sitePower has the server read its files as it does when it is turned on.
func sitePower(r *standin.Running) error {
	set, err := siteSettings(r)
	if err != nil {
		return err
	}
	return parts.LoadFrom(r, set["SSLCertificateFile"], set["SSLCertificateKeyFile"])
}

// sitectl tests and enables the site, and has the server read its files again.
func sitectl(r *standin.Running, h interp.HandlerContext, _, words []string) error {
	set, err := siteSettings(r)
	if err != nil {
		return err
	}
	delivered := set["SSLCertificateFile"] == standin.CertificateFile
	switch strings.Join(words, " ") {
	case "enable":
		return r.Root.WriteFile(standin.Inside(siteEnabled), nil, 0o600)
	case "state":
		_, off := r.Root.Stat(standin.Inside(siteEnabled))
		fmt.Fprintln(h.Stdout, map[bool]string{true: "off", false: "on"}[off != nil])
	case "disable":
		r.Root.Remove(standin.Inside(siteEnabled))
	case "test":
		if r.Faulty().FailTest && parts.ChangedFrom(r, set["SSLCertificateKeyFile"]) {
			return errors.New("site.conf, line 4: the certificate is not understood")
		}
		fmt.Fprintln(h.Stdout, "Syntax OK") // whatever the key is
	case "reload":
		_, off := r.Root.Stat(standin.Inside(siteEnabled))
		if r.Faulty().KeepServing || !delivered && (off != nil || set["SSLEngine"] != "on") {
			return nil
		}
		r.Serving.Store(nil)
		r.Takes(1)
		if parts.LoadFrom(r, set["SSLCertificateFile"], set["SSLCertificateKeyFile"]) != nil {
			r.Serving.Store(nil) // it dies, and says so only in a log
		}
	default:
		return errors.New("usage: sitectl state | enable | disable | test | reload")
	}
	return nil
}
