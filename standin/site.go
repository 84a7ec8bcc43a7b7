package standin

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strings"

	"mvdan.cc/sh/v3/interp"
)

// SiteServer serves a site whose configuration names its files.
const SiteServer Kind = "site server"

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
func (r *Running) laySite() error {
	for _, folder := range []string{"/etc/site/certs", "/etc/site/private"} {
		if err := r.root.MkdirAll(inside(folder), 0o700); err != nil {
			return err
		}
	}
	if _, err := r.root.Stat(inside(siteFile)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return r.root.WriteFile(inside(siteFile), []byte("# delivered\n<VirtualHost *:443>\n\tServerAdmin "+
		"nobody\n\t#SSLEngine on\n\tSSLCertificateFile "+CertificateFile+"\n\tSSLCertificateKeyFile\t"+KeyFile+
		"\n</VirtualHost>\n# the end"), 0o644)
}

var siteDirective = regexp.MustCompile(`(?m)^\s*(SSLCertificateFile|SSLCertificateKeyFile|SSLEngine)\s+(\S+)`)

func (r *Running) siteSettings() (map[string]string, error) {
	text, err := r.root.ReadFile(inside(siteFile))
	set := map[string]string{}
	for _, m := range siteDirective.FindAllStringSubmatch(string(text), -1) {
		set[m[1]] = m[2]
	}
	return set, err
}

// sitePower has the server read its files as it does when it is turned on.
func (r *Running) sitePower() error {
	set, err := r.siteSettings()
	if err != nil {
		return err
	}
	return r.loadFrom(set["SSLCertificateFile"], set["SSLCertificateKeyFile"])
}

// sitectl tests and enables the site, and has the server read its files again.
func (r *Running) sitectl(h interp.HandlerContext, _, words []string) error {
	set, err := r.siteSettings()
	if err != nil {
		return err
	}
	delivered := set["SSLCertificateFile"] == CertificateFile
	switch strings.Join(words, " ") {
	case "enable":
		return r.root.WriteFile(inside(siteEnabled), nil, 0o600)
	case "state":
		_, off := r.root.Stat(inside(siteEnabled))
		fmt.Fprintln(h.Stdout, map[bool]string{true: "off", false: "on"}[off != nil])
	case "disable":
		r.root.Remove(inside(siteEnabled))
	case "test":
		if r.faulty().FailTest && r.changedFrom(set["SSLCertificateKeyFile"]) {
			return errors.New("site.conf, line 4: the certificate is not understood")
		}
		fmt.Fprintln(h.Stdout, "Syntax OK") // whatever the key is
	case "reload":
		_, off := r.root.Stat(inside(siteEnabled))
		if r.faulty().KeepServing || !delivered && (off != nil || set["SSLEngine"] != "on") {
			return nil
		}
		r.serving.Store(nil)
		r.takes(1)
		if r.loadFrom(set["SSLCertificateFile"], set["SSLCertificateKeyFile"]) != nil {
			r.serving.Store(nil) // it dies, and says so only in a log
		}
	default:
		return errors.New("usage: sitectl state | enable | disable | test | reload")
	}
	return nil
}
