package service

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"time"

	"freshseal/store"
)

// Credential is a way to sign in that several devices share, as the API shows it.
type Credential struct {
	Name    string    `json:"name" required:"true"`
	SSHUser string    `json:"ssh_user" required:"true"`
	Devices int       `json:"devices" required:"true" description:"how many use it"`
	AddedAt time.Time `json:"added_at" required:"true"`
}

// NewCredential is what is given to add a credential.
type NewCredential struct {
	Name string `json:"name" required:"true"`
	CredentialChange
}

// CredentialChange is what stands in the place of an older user and secret.
type CredentialChange struct {
	SSHUser    string `json:"ssh_user" required:"true"`
	Password   string `json:"password,omitempty"`
	Key        string `json:"key,omitempty" description:"private key in OpenSSH or PEM form"`
	Passphrase string `json:"passphrase,omitempty" description:"of that key"`
}

func (n CredentialChange) access() Access {
	return Access{SSHUser: n.SSHUser, Password: n.Password, Key: n.Key, Passphrase: n.Passphrase}
}

var credentialName = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]{0,62}[a-z0-9])?$`)

func showCredential(row store.Credential) Credential {
	return Credential{row.Name, row.SSHUser, row.Devices, row.AddedAt.Time}
}

// AddCredential takes a credential in; devices name it from then on.
func (s *Service) AddCredential(ctx context.Context, n NewCredential) (Credential, error) {
	cannot := "the credential cannot be added"
	if !credentialName.MatchString(n.Name) {
		return Credential{}, invalid(cannot, fmt.Sprintf("%q is no name for it", n.Name), nameRule)
	}
	if err := n.access().checkSecrets(cannot); err != nil {
		return Credential{}, err
	}
	err := s.store.AddCredential(ctx, store.Credential{Name: n.Name, SSHUser: n.SSHUser, AddedAt: s.moment()}, s.sealAccess("credential/"+n.Name, n.access()))
	if errors.Is(err, store.ErrTaken) {
		return Credential{}, &Error{Conflict, cannot, n.Name + " is there already", "put another in its place: freshseal credential replace " + n.Name}
	}
	if err != nil {
		return Credential{}, err
	}
	return s.Credential(ctx, n.Name)
}

// ReplaceCredential puts another user and secret in the place of a credential's.
// No device is touched: they sign in with the new one from now on.
func (s *Service) ReplaceCredential(ctx context.Context, name string, n CredentialChange) (Credential, error) {
	if err := n.access().checkSecrets("the credential cannot be replaced"); err != nil {
		return Credential{}, err
	}
	of := "credential/" + name
	err := s.store.ChangeCredential(ctx, store.Credential{Name: name, SSHUser: n.SSHUser}, s.sealAccess(of, n.access()), purposes(of)...)
	if err != nil {
		return Credential{}, noCredential(err, name)
	}
	return s.Credential(ctx, name)
}

func noCredential(err error, name string) error {
	return notFound(err, "see: freshseal credential list", "no credential is called %q", name)
}

// Credential shows one credential.
func (s *Service) Credential(ctx context.Context, name string) (Credential, error) {
	row, err := s.store.Credential(ctx, name)
	return showCredential(row), noCredential(err, name)
}

// Credentials are all credentials by name.
func (s *Service) Credentials(ctx context.Context) ([]Credential, error) {
	rows, err := s.store.Credentials(ctx)
	out := make([]Credential, 0, len(rows))
	for _, row := range rows {
		out = append(out, showCredential(row))
	}
	return out, err
}

// RemoveCredential forgets a credential that no device uses.
func (s *Service) RemoveCredential(ctx context.Context, name string) error {
	err := s.store.RemoveCredential(ctx, name, purposes("credential/"+name)...)
	if errors.Is(err, store.ErrTaken) {
		return &Error{Conflict, "the credential cannot be removed", "devices sign in with it", "give them another first: freshseal device edit DEVICE --credential NAME"}
	}
	return noCredential(err, name)
}
