package access

import (
	"context"
	"errors"

	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/device/ssh"
	"freshseal/service/problem"
	"freshseal/store"

	crypto "golang.org/x/crypto/ssh"
)

func noSecrets(s contract.Secrets) bool { return s == contract.Secrets{} }

// checkSecrets verifies that the secrets can be used to sign in.
func checkSecrets(s contract.Secrets, cannot string) error {
	if s.Password == "" && s.Key == "" {
		return problem.Reject(cannot, "it has neither a password nor a key", "give one", next.Give.On("password"),
			next.Give.On("private_key"))
	}
	if s.Key == "" {
		return nil
	}
	_, err := ssh.ParseKey([]byte(s.Key), []byte(s.Passphrase))
	var locked *crypto.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		return problem.Reject(cannot, "its key is locked with a passphrase", "give the passphrase",
			next.Give.On("passphrase"))
	case err != nil:
		return problem.Reject(cannot, "its key cannot be read: "+err.Error(), "give a private key in OpenSSH or "+
			"PEM form, and its passphrase where it has one")
	}
	return nil
}

// accessOf returns what the secrets of a device's link are sealed for.
func accessOf(device, link string) string {
	if link == procedure.SSH {
		return "device/" + device // the first link that there was; what was sealed so stays readable
	}
	return "device/" + device + "/" + link
}

// Purposes returns what the secrets of a device are sealed for, over all its links.
func Purposes(device string) []string {
	var out []string
	for name := range kindsOfLink {
		out = append(out, purposes(accessOf(device, name))...)
	}
	return out
}

// purposes returns those of one access, of a site or of a credential.
func purposes(of string) []string { return []string{of + "/password", of + "/key", of + "/passphrase"} }

// SlotPurpose returns what the shared secret of a slot is sealed for.
func SlotPurpose(device, slot string) string { return "device/" + device + "/slot/" + slot + "/secret" }

// SlotSecret opens the shared secret of a slot that is read by EAP; nil: it has none.
func (s *Service) SlotSecret(ctx context.Context, device, slot string) ([]byte, error) {
	purpose := SlotPurpose(device, slot)
	sealed, err := s.store.Secrets.Get(ctx, purpose)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return s.box.Open(purpose, sealed)
}

func (s *Service) seal(of string, secrets contract.Secrets) map[string][]byte {
	out := map[string][]byte{}
	for i, secret := range []string{secrets.Password, secrets.Key, secrets.Passphrase} {
		if purpose := purposes(of)[i]; secret != "" {
			out[purpose] = s.box.Seal(purpose, []byte(secret))
		}
	}
	return out
}

// open opens secrets for a link.
func (s *Service) open(ctx context.Context, of string, t *ssh.Target) error {
	opened := make([]string, 3)
	for i, purpose := range purposes(of) {
		sealed, err := s.store.Secrets.Get(ctx, purpose)
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
