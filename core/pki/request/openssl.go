package request

import (
	"fmt"
	"net"
	"strings"
)

// OpenSSLConfig writes the plan as a configuration for `openssl req -new
// -config`, the one way that takes every name and character on any version.
// Values are escaped, so that none of them can end its line, start a section or
// expand a variable (openssl config(5)).
func (p Plan) OpenSSLConfig() string {
	var b strings.Builder
	b.WriteString("[req]\nprompt = no\nutf8 = yes\nstring_mask = utf8only\ndefault_md = sha256\n" +
		"distinguished_name = subject\nreq_extensions = extensions\n\n[subject]\n")
	for _, f := range p.Subject.fields() {
		if f.value != "" {
			fmt.Fprintf(&b, "%s = %s\n", f.short, configValue(f.value))
		}
	}
	b.WriteString("\n[extensions]\nbasicConstraints = critical, CA:FALSE\n" +
		"keyUsage = critical, " + p.keyUsage() + "\nextendedKeyUsage = " + p.extendedKeyUsage() +
		"\nsubjectAltName = @names\n\n[names]\n")
	dns, ip := 0, 0
	for _, name := range p.Names {
		if net.ParseIP(name) != nil {
			ip++
			fmt.Fprintf(&b, "IP.%d = %s\n", ip, configValue(name))
		} else {
			dns++
			fmt.Fprintf(&b, "DNS.%d = %s\n", dns, configValue(name))
		}
	}
	return b.String()
}

func (p Plan) keyUsage() string {
	if strings.HasPrefix(string(p.Key), "rsa-") {
		return "digitalSignature, keyEncipherment"
	}
	return "digitalSignature"
}

func (p Plan) extendedKeyUsage() string {
	if p.ClientUse {
		return "serverAuth, clientAuth"
	}
	return "serverAuth"
}

// OpenSSLKeyOptions returns the words after `openssl genpkey` for the key type.
func (p Plan) OpenSSLKeyOptions() []string {
	switch p.Key {
	case ECDSAP256:
		return []string{"-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256", "-pkeyopt",
			"ec_param_enc:named_curve"}
	case ECDSAP384:
		return []string{"-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-384", "-pkeyopt",
			"ec_param_enc:named_curve"}
	}
	return []string{"-algorithm", "RSA", "-pkeyopt", "rsa_keygen_bits:" + strings.TrimPrefix(string(p.Key), "rsa-")}
}

// configValue escapes one value: a backslash before each character that means
// something to the reader, and line ends taken away.
func configValue(value string) string {
	var b strings.Builder
	for _, r := range value {
		switch {
		case isControl(r):
			b.WriteRune(' ')
		case strings.ContainsRune("\\\"'`#$;", r):
			b.WriteRune('\\')
			b.WriteRune(r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}
