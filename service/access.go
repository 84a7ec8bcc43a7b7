package service

import (
	"context"
	"errors"
	"fmt"
	"regexp"

	"freshseal/device/ssh"
	"freshseal/store"

	crypto "golang.org/x/crypto/ssh"
)

// Access is what signing in over SSH needs. Its secrets are taken and never
// given back.
type Access struct {
	SSHUser    string `json:"ssh_user,omitempty"`
	Password   string `json:"password,omitempty"`
	Key        string `json:"key,omitempty" description:"private key in OpenSSH or PEM form"`
	Passphrase string `json:"passphrase,omitempty" description:"of that key"`
	HostKey    string `json:"host_key,omitempty" description:"TYPE SHA256:…, as a call to host-keys shows it"`
}

var pinForm = regexp.MustCompile(`^[a-z0-9@.-]+ SHA256:[A-Za-z0-9+/]{43}$`)

// check sees that one can sign in with it.
func (a Access) check(cannot string) error {
	if err := a.checkSecrets(cannot); err != nil {
		return err
	}
	return checkHostKey(cannot, a.HostKey)
}

func checkHostKey(cannot, hostKey string) error {
	switch {
	case hostKey == "":
		return invalid(cannot, "its host key is not given", "look at the key that it shows, compare it with its own console, and give it with --host-key")
	case !pinForm.MatchString(hostKey):
		return invalid(cannot, fmt.Sprintf("%q is no host key", hostKey), "give its type and fingerprint, such as: ssh-ed25519 SHA256:…")
	}
	return nil
}

// checkSecrets sees that it names somebody who can prove to be that.
func (a Access) checkSecrets(cannot string) error {
	switch {
	case a.SSHUser == "":
		return invalid(cannot, "it has no user to sign in with over SSH", "give one with --ssh-user, or a shared one with --credential")
	case a.Password == "" && a.Key == "":
		return invalid(cannot, "it has neither a password nor a key", "give one with --password-file or --key-file")
	}
	if a.Key == "" {
		return nil
	}
	_, err := ssh.ParseKey([]byte(a.Key), []byte(a.Passphrase))
	var locked *crypto.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		return invalid(cannot, "its key is locked with a passphrase", "give the passphrase with --passphrase-file")
	case err != nil:
		return invalid(cannot, "its key cannot be read: "+err.Error(), "give a private key in OpenSSH or PEM form, and its passphrase where it has one")
	}
	return nil
}

// The secrets of an access, by the last part of their purpose.
var accessSecrets = []string{"password", "key", "passphrase"}

func purposes(of string) []string {
	var out []string
	for _, what := range accessSecrets {
		out = append(out, of+"/"+what)
	}
	return out
}

// sealAccess seals the secrets of an access for a device or a site.
func (s *Service) sealAccess(of string, a Access) map[string][]byte {
	out := map[string][]byte{}
	for i, secret := range []string{a.Password, a.Key, a.Passphrase} {
		if purpose := purposes(of)[i]; secret != "" {
			out[purpose] = s.box.Seal(purpose, []byte(secret))
		}
	}
	return out
}

// openAccess opens them for a link.
func (s *Service) openAccess(ctx context.Context, of string, t *ssh.Target) error {
	opened := make([]string, len(accessSecrets))
	for i, purpose := range purposes(of) {
		sealed, err := s.store.Secret(ctx, purpose)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		secret, err := s.box.Open(purpose, sealed)
		if err != nil {
			return err
		}
		opened[i] = string(secret)
	}
	t.Password, t.Key, t.Passphrase = opened[0], []byte(opened[1]), []byte(opened[2])
	return nil
}
