package standin

import (
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"mvdan.cc/sh/v3/interp"
)

// ownAuthority is where a manager keeps the authority with which it signs the
// certificates of the hosts under it.
const ownAuthority = "/etc/warden/authority.pem"

// hostwarden is the tool of a manager that has an authority of its own: it makes key
// and certificate of each host under it, and puts them there.
func (r *Running) hostwarden(h interp.HandlerContext, _, words []string) error {
	if len(words) == 0 {
		return errors.New("usage: hostwarden authority | state HOST | renew HOST")
	}
	authority, err := r.authority()
	if err != nil {
		return err
	}
	if words[0] == "authority" && len(words) == 1 {
		if r.faulty().OtherPrompt {
			fmt.Fprintln(h.Stdout, "the authority is not set up")
			return nil
		}
		_, err := h.Stdout.Write(authority.PEM())
		return err
	}
	if len(words) != 2 || r.Hosts == nil {
		return errors.New("usage: hostwarden authority | state HOST | renew HOST")
	}
	name := words[1]
	host := r.Hosts(name)
	if host == nil {
		return errors.New("no host is called " + name)
	}
	switch {
	case words[0] == "state" && r.faulty().Silent:
		fmt.Fprintln(h.Stdout, "not responding")
	case words[0] == "state":
		fmt.Fprintln(h.Stdout, "connected")
	case words[0] == "renew" && r.faulty().FailTest:
		return errors.New("task failed: the host is busy")
	case words[0] == "renew":
		r.takes(1)
		if r.faulty().KeepServing {
			fmt.Fprintln(h.Stdout, "renewed")
			return nil
		}
		if r.faulty().RollBack {
			authority = nil // the host made itself another one meanwhile
		}
		certificate, key, err := authority.Issue(Wanted{Subject: pkix.Name{Organization: []string{"Pelorus"},
			CommonName: name}, Names: []string{name}, Begins: -time.Hour, Ends: 365 * day}, orSystem(nil), time.Now())
		if err != nil {
			return err
		}
		fmt.Fprintln(h.Stdout, "renewed")
		return host.Meddle(certificate, key)
	default:
		return errors.New("usage: hostwarden authority | state HOST | renew HOST")
	}
	return nil
}

// authority opens the manager's own authority, which is made when it is first asked for.
func (r *Running) authority() (*Authority, error) {
	r.gearLock.Lock()
	defer r.gearLock.Unlock()
	text, err := r.root.ReadFile(inside(ownAuthority))
	if err == nil {
		own, _, err := openAuthorities(text)
		return own, err
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	own, err := NewAuthority("Pelorus Manager Authority", nil, orSystem(r.Random), time.Now())
	if err != nil {
		return nil, err
	}
	if err := r.root.MkdirAll(inside(strings.TrimSuffix(ownAuthority, "/authority.pem")), 0o700); err != nil {
		return nil, err
	}
	return own, r.root.WriteFile(inside(ownAuthority), append(own.withKey(), own.withKey()...), 0o600)
}
