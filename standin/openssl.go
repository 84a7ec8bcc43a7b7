package standin

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
)

// PemOf returns a PEM block of this kind.
func PemOf(kind string, der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der})
}

// openssl is the part of the command of that name which procedures use.
func (r unix) openssl(stdout, stderr io.Writer, args []string) error {
	if len(args) == 0 {
		return errors.New("wants a command")
	}
	o := optionsOf(args[1:])
	switch args[0] {
	case "version":
		_, err := fmt.Fprintln(stdout, "OpenSSL 3.0.0 (stand-in)")
		return err
	case "genpkey":
		return r.genpkey(o)
	case "req":
		if slices.Contains(args, "-verify") {
			return r.verify(stdout, stderr, o)
		}
		return r.req(o)
	case "pkey":
		key, err := r.key(o.last("-in"))
		if err != nil {
			return err
		}
		if old, isRSA := key.(*rsa.PrivateKey); isRSA && slices.Contains(args, "-traditional") {
			return r.Root.WriteFile(Inside(o.last("-out")),
				PemOf("RSA PRIVATE KEY", x509.MarshalPKCS1PrivateKey(old)), 0o600)
		}
		return writePublic(stdout, key.Public())
	case "x509":
		content, err := r.Root.ReadFile(Inside(o.last("-in")))
		if err != nil {
			return err
		}
		block, _ := pem.Decode(content)
		if block == nil {
			return errors.New("unable to load certificate")
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return err
		}
		return writePublic(stdout, c.PublicKey)
	}
	return fmt.Errorf("unknown command %q", args[0])
}

func writePublic(w io.Writer, public any) error {
	der, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return err
	}
	_, err = w.Write(PemOf("PUBLIC KEY", der))
	return err
}

type options map[string][]string

func (o options) last(name string) string {
	values := o[name]
	if len(values) == 0 {
		return ""
	}
	return values[len(values)-1]
}

// optionsOf pairs each option with the word behind it, if that is no option.
func optionsOf(args []string) options {
	out := options{}
	for i := 0; i < len(args); i++ {
		name, value := args[i], ""
		if i+1 < len(args) && !strings.HasPrefix(args[i+1], "-") {
			i++
			value = args[i]
		}
		out[name] = append(out[name], value)
	}
	return out
}

func (r unix) genpkey(o options) error {
	var key crypto.Signer
	var err error
	switch o.last("-algorithm") {
	case "EC":
		curve := elliptic.P256()
		for _, opt := range o["-pkeyopt"] {
			if opt == "ec_paramgen_curve:P-384" {
				curve = elliptic.P384()
			}
		}
		key, err = ecdsa.GenerateKey(curve, rand.Reader)
	case "RSA":
		bits, parseErr := strconv.Atoi(strings.TrimPrefix(o.last("-pkeyopt"), "rsa_keygen_bits:"))
		if parseErr != nil {
			return errors.New("wants rsa_keygen_bits")
		}
		key, err = rsa.GenerateKey(rand.Reader, bits)
	default:
		return fmt.Errorf("unknown algorithm %q", o.last("-algorithm"))
	}
	if err != nil {
		return err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	return r.Root.WriteFile(Inside(o.last("-out")), PemOf("PRIVATE KEY", der), 0o600)
}

func (r unix) key(file string) (crypto.Signer, error) {
	content, err := r.Root.ReadFile(Inside(file))
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(content)
	if block == nil {
		return nil, errors.New("unable to load key")
	}
	if block.Type == "RSA PRIVATE KEY" {
		return x509.ParsePKCS1PrivateKey(block.Bytes)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	return key.(crypto.Signer), nil
}

// req makes a request of a configuration, as `openssl req -new -config` does.
func (r unix) req(o options) error {
	key, err := r.key(o.last("-key"))
	if err != nil {
		return err
	}
	text, err := r.Root.ReadFile(Inside(o.last("-config")))
	if err != nil {
		return err
	}
	sections := readConfig(text)
	template := &x509.CertificateRequest{Subject: subjectOf(sections["subject"])}
	for _, line := range sections["names"] {
		if strings.HasPrefix(line[0], "IP.") {
			template.IPAddresses = append(template.IPAddresses, net.ParseIP(line[1]))
		} else {
			template.DNSNames = append(template.DNSNames, line[1])
		}
	}
	for _, line := range sections["extensions"] {
		if line[0] != "extendedKeyUsage" {
			continue
		}
		var uses []asn1.ObjectIdentifier
		for use := range strings.SplitSeq(line[1], ",") {
			uses = append(uses, usages[strings.TrimSpace(use)])
		}
		value, err := asn1.Marshal(uses)
		if err != nil {
			return err
		}
		template.ExtraExtensions = append(template.ExtraExtensions,
			pkix.Extension{Id: asn1.ObjectIdentifier{2, 5, 29, 37}, Value: value})
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, template, key)
	if err != nil {
		return err
	}
	return r.Root.WriteFile(Inside(o.last("-out")), PemOf("CERTIFICATE REQUEST", der), 0o600)
}

// verify checks a request's own signature and prints its names.
func (r unix) verify(stdout, stderr io.Writer, o options) error {
	content, err := r.Root.ReadFile(Inside(o.last("-in")))
	if err != nil {
		return err
	}
	block, _ := pem.Decode(content)
	if block == nil {
		return errors.New("unable to load X509 request")
	}
	request, err := x509.ParseCertificateRequest(block.Bytes)
	if err != nil {
		return err
	}
	if request.CheckSignature() != nil {
		fmt.Fprintln(stderr, "Certificate request self-signature verify failure")
		return errors.New("verify failure")
	}
	fmt.Fprintln(stderr, "Certificate request self-signature verify OK")
	_, err = fmt.Fprintf(stdout, "        Subject: %s\n            X509v3 Subject Alternative Name:\n              "+
		"  %v %v\n", request.Subject, request.DNSNames, request.IPAddresses)
	return err
}

// readConfig reads sections of name = value lines; a backslash takes the next
// character as it is (openssl config(5)).
func readConfig(text []byte) map[string][][2]string {
	out := map[string][][2]string{}
	section := ""
	for line := range bytes.Lines(text) {
		l := strings.TrimSpace(string(line))
		if strings.HasPrefix(l, "[") {
			section = strings.Trim(l, "[] ")
			continue
		}
		name, value, ok := strings.Cut(l, "=")
		if !ok {
			continue
		}
		var plain strings.Builder
		escaped := false
		for _, c := range strings.TrimSpace(value) {
			if c == '\\' && !escaped {
				escaped = true
				continue
			}
			plain.WriteRune(c)
			escaped = false
		}
		out[section] = append(out[section], [2]string{strings.TrimSpace(name), plain.String()})
	}
	return out
}

var oids = map[string]asn1.ObjectIdentifier{
	"C": {2, 5, 4, 6}, "ST": {2, 5, 4, 8}, "L": {2, 5, 4, 7}, "O": {2, 5, 4, 10}, "OU": {2, 5, 4, 11},
	"CN": {2, 5, 4, 3}, "emailAddress": {1, 2, 840, 113549, 1, 9, 1},
}

var usages = map[string]asn1.ObjectIdentifier{"serverAuth": {1, 3, 6, 1, 5, 5, 7, 3, 1},
	"clientAuth": {1, 3, 6, 1, 5, 5, 7, 3, 2}}

func subjectOf(lines [][2]string) pkix.Name {
	var n pkix.Name
	for _, line := range lines {
		n.ExtraNames = append(n.ExtraNames, pkix.AttributeTypeAndValue{Type: oids[line[0]], Value: line[1]})
	}
	return n
}
