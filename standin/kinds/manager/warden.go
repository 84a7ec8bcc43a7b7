package manager

import (
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"time"

	"freshseal/standin"
	"freshseal/standin/parts"

	"mvdan.cc/sh/v3/interp"
)

// hostwarden is the tool of a manager that has an authority of its own: it makes key
// and certificate of each host under it, and puts them there.
func hostwarden(r *standin.Running, h interp.HandlerContext, _, words []string) error {
	if len(words) == 0 {
		return errors.New("usage: hostwarden authority | state HOST | renew HOST")
	}
	authority, err := parts.Authority(r)
	if err != nil {
		return err
	}
	if words[0] == "authority" && len(words) == 1 {
		if r.Faulty().OtherPrompt {
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
	case words[0] == "state" && r.Faulty().Silent:
		fmt.Fprintln(h.Stdout, "not responding")
	case words[0] == "state":
		fmt.Fprintln(h.Stdout, "connected")
	case words[0] == "renew" && r.Faulty().FailTest:
		return errors.New("task failed: the host is busy")
	case words[0] == "renew":
		r.Takes(1)
		if r.Faulty().KeepServing {
			fmt.Fprintln(h.Stdout, "renewed")
			return nil
		}
		if r.Faulty().RollBack {
			authority = nil // the host made itself another one meanwhile
		}
		certificate, key, err := authority.Issue(standin.Wanted{Subject: pkix.Name{Organization: []string{"Pelorus"},
			CommonName: name}, Names: []string{name}, Begins: -time.Hour, Ends: 365 * standin.Day},
			standin.OrSystem(nil), time.Now())
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
