package cli

import (
	"fmt"
	"net/url"
	"os"
	"strings"

	"freshseal/core/judgement/due"
	"freshseal/core/pki/request"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// PairsOf reads NAME=VALUE words that a flag was given.
func PairsOf(flag string, list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, text := range list {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return nil, Misuse(fmt.Sprintf("%s %s cannot be read", flag, text), "", "write it as NAME=VALUE")
		}
		out[name] = value
	}
	return out, nil
}

func ReadFile(name string, most int64) ([]byte, error) {
	info, err := os.Stat(name)
	if err == nil && info.Size() > most {
		return nil, Failed(name+" was not read", fmt.Sprintf("it has %d bytes, more than %d", info.Size(), most),
			"see that it is the right file")
	}
	content, err := os.ReadFile(name)
	if err != nil {
		return nil, Failed(name+" cannot be read", err.Error(), "name a file that is there")
	}
	return content, nil
}

// SubjectFlags are the flags with which a subject is described.
func SubjectFlags(f *pflag.FlagSet, s *request.Subject) {
	f.StringVar(&s.Organization, "organization", "", "in the subject")
	f.StringVar(&s.Unit, "unit", "", "in the subject")
	f.StringVar(&s.Locality, "locality", "", "in the subject")
	f.StringVar(&s.State, "state", "", "in the subject")
	f.StringVar(&s.Country, "country", "", "in the subject, two letters")
	f.StringVar(&s.Email, "email", "", "mail address in the subject, for forms that demand one")
}

// Conditions are the words of core/judgement/due, worst first.
var Conditions = func() []string {
	var out []string
	for _, c := range due.Conditions {
		out = append(out, string(c))
	}
	return out
}()

// SlotFlags returns the flags by which slots are chosen; the result gives what was set.
func SlotFlags(c *cobra.Command) func() url.Values {
	given := map[string]*string{}
	for name, about := range map[string]string{
		"condition": "only slots in this condition", "site": "only those at this site",
		"family": "only those of this family", "tag": "only those with this tag",
		"owner": "only those of this owner", "signer": "only those that this signer signed last",
		"issuer":    "only those whose certificate was issued by this authority",
		"key_type":  "only those with this key, such as \"ECDSA P-256\"",
		"signature": "only those whose certificate has this signature algorithm",
		"ends":      "only those that expire in a month (2027-03), on a day (2027-03-14), within days (7d); or ended",
		"serves":    "only those with this certificate in their path: SHA-256 of the leaf, an intermediate or the root",
		"text": "only slots with this text in a name, address, owner, tag, note, subject, serial number or " +
			"fingerprint",
	} {
		given[name] = c.Flags().String(strings.ReplaceAll(name, "_", "-"), "", about)
	}
	return func() url.Values {
		out := url.Values{}
		for name, value := range given {
			if *value != "" {
				out.Set(name, *value)
			}
		}
		return out
	}
}
