package access

import (
	"context"
	"fmt"
	"maps"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/device/https"
	"freshseal/device/ssh"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
)

// link is what is known of a kind of link before it is opened.
type link struct {
	pin     func(cannot, pin string) error
	form    func(pin string) string // the one in which it is kept
	options map[string][]string     // and their values
}

var kindsOfLink = map[string]link{
	procedure.SSH:     {pin: checkHostKey, form: hostKeyOf, options: map[string][]string{oldAlgorithms: {"yes", "no"}}},
	procedure.NETCONF: {pin: checkHostKey, form: hostKeyOf, options: map[string][]string{oldAlgorithms: {"yes", "no"}}},
	procedure.HTTPS: {pin: checkFingerprint, form: fingerprintOf,
		options: map[string][]string{oldTLS: {"yes", "no"}}},
}

const (
	oldAlgorithms = "old_algorithms"
	oldTLS        = "old_tls"
)

var hostKeyForm = regexp.MustCompile(`^[a-z0-9@.-]+ SHA256:[A-Za-z0-9+/]{43}$`)

func checkHostKey(cannot, hostKey string) error {
	switch {
	case hostKey == "":
		return problem.Reject(cannot, "its host key is missing", "compare the key that it shows with its console, "+
			"then give it", next.Give.On("pin"))
	case !hostKeyForm.MatchString(hostKey):
		return problem.Reject(cannot, fmt.Sprintf("%q is not a host key", hostKey), "give its type and "+
			"fingerprint, such as: ssh-ed25519 SHA256:…", next.Give.On("pin"))
	}
	return nil
}

// fingerprintOf returns the stored form of a fingerprint, from the forms that browsers and tools show: with colons,
// blanks and capitals, and behind “SHA-256”, “sha256” or “SHA256 Fingerprint=”.
func fingerprintOf(pin string) string {
	text := strings.ToLower(strings.TrimSpace(pin))
	if at := strings.LastIndexAny(text, "="); at >= 0 {
		text = text[at+1:]
	}
	for _, label := range []string{"sha-256", "sha256", "fingerprint"} {
		text = strings.TrimLeft(strings.TrimPrefix(strings.TrimSpace(text), label), ":= ")
	}
	return strings.NewReplacer(":", "", " ", "", "-", "").Replace(text)
}

// hostKeyOf returns the stored form of a host key: its type and SHA-256. Tools show it with the number of bits before
// and the type in brackets behind, and base64 may end with =.
func hostKeyOf(pin string) string {
	if pin = strings.TrimSpace(pin); strings.ContainsAny(pin, "\r\n") {
		return pin // no host key
	}
	words := strings.Fields(pin)
	for i, word := range words {
		if !strings.HasPrefix(word, "SHA256:") {
			continue
		}
		kind := ""
		if i > 0 {
			kind = words[i-1]
		}
		for name, types := range map[string]string{"(ED25519)": "ssh-ed25519", "(RSA)": "ssh-rsa",
			"(ECDSA)": "ecdsa-sha2-nistp" + words[0]} {
			if words[len(words)-1] == name {
				kind = types
			}
		}
		return strings.TrimSpace(kind + " " + strings.TrimRight(word, "="))
	}
	return pin
}

var fingerprintForm = regexp.MustCompile(`^[0-9a-f]{64}$`)

func checkFingerprint(cannot, pin string) error {
	switch {
	case pin == "":
		return problem.Reject(cannot, "the fingerprint of its web interface's certificate is missing",
			"compare the SHA-256 that a browser shows with its console, then give it", next.Give.On("pin"))
	case !fingerprintForm.MatchString(pin):
		return problem.Reject(cannot, fmt.Sprintf("%q is not a fingerprint", pin), "give the SHA-256 of its "+
			"certificate, 64 hexadecimal digits", next.Give.On("pin"))
	}
	return nil
}

// Ways is the result of a change of a device's access: all of it, and which secrets are new or no longer needed.
type Ways struct {
	Access  []store.Access
	Secrets map[string][]byte // sealed, by purpose
	Gone    []string          // purposes
}

// Change lays changes over the access of a device, and checks that the device can be
// signed in to over every link that its family needs.
//
// A secret counts for the address, port and pin that it was given for: whoever changes
// one of them gives the secret again, so that nobody has it sent elsewhere without
// knowing it. moved says that the device's own address changes.
func (s *Service) Change(ctx context.Context, cannot, device string, was []store.Access,
	changes []contract.AccessChange, needed []string, moved bool) (Ways, error) {
	out := Ways{Access: slices.Clone(was), Secrets: map[string][]byte{}}
	needed = slices.DeleteFunc(slices.Clone(needed), func(name string) bool {
		_, signsIn := kindsOfLink[name]
		return !signsIn
	})
	for _, c := range changes {
		if c.Link == "" && len(needed) > 0 {
			c.Link = needed[0]
		} else if c.Link == "" {
			c.Link = procedure.SSH
		}
		_, known := kindsOfLink[c.Link]
		if !known {
			return out, problem.Reject(cannot, fmt.Sprintf("no link is called %q", c.Link),
				fmt.Sprintf("give one of %v", slices.Sorted(maps.Keys(kindsOfLink))), next.Give.On("link"))
		}
		i := slices.IndexFunc(out.Access, func(a store.Access) bool { return a.Link == c.Link })
		isNew := i < 0
		if isNew {
			i = len(out.Access)
			out.Access = append(out.Access, store.Access{Link: c.Link, Port: procedure.UsualPort(c.Link)})
		}
		if err := s.lay(ctx, cannot, device, &out, i, c, isNew); err != nil {
			return out, err
		}
	}
	for _, a := range out.Access {
		i := slices.IndexFunc(was, func(w store.Access) bool { return w.Link == a.Link })
		if i < 0 || a.Credential != "" || was[i].Credential != "" || out.given(accessOf(device, a.Link)) {
			continue
		}
		if w := was[i]; w.Port != a.Port || w.Pin != a.Pin || w.Address != a.Address || a.Address == "" && moved {
			return out, problem.Reject(cannot, "its secret was given for another address, port or host key",
				"give the password or key again", next.Give.On("password"), next.Give.On("private_key"))
		}
	}
	for _, name := range needed {
		if !slices.ContainsFunc(out.Access, func(a store.Access) bool { return a.Link == name }) {
			return out, problem.Reject(cannot, fmt.Sprintf("its family needs access over %s", name),
				"give a user or a shared credential, and the pin", next.Give.On("user"), next.Give.On("pin"))
		}
	}
	return out, nil
}

// given reports whether an access gets new secrets.
func (w Ways) given(of string) bool {
	return slices.ContainsFunc(purposes(of), func(purpose string) bool { return w.Secrets[purpose] != nil })
}

// lay applies one change to the access at i, and checks the result.
func (s *Service) lay(ctx context.Context, cannot, device string, out *Ways, i int, c contract.AccessChange,
	isNew bool) error {
	a, rules, of := &out.Access[i], kindsOfLink[c.Link], accessOf(device, c.Link)
	if c.Credential != nil && *c.Credential != "" && (c.User != nil && *c.User != "" || !noSecrets(c.Secrets)) {
		return problem.Reject(cannot, "it has both a shared credential and its own", "give either a shared "+
			"credential, or a user with a password or key")
	}
	given, hadOwn := !noSecrets(c.Secrets), a.Credential == "" && !isNew
	set(&a.Address, c.Address)
	set(&a.Port, c.Port)
	set(&a.User, c.User)
	set(&a.Pin, c.Pin)
	a.Pin = rules.form(a.Pin)
	if set(&a.Credential, c.Credential); a.Credential != "" {
		a.User, out.Gone = "", append(out.Gone, purposes(of)...)
		if _, err := s.Credential(ctx, a.Credential); err != nil {
			return err
		}
	}
	if err := layOptions(cannot, a, rules, c); err != nil {
		return err
	}
	if err := checkPlace(cannot, a, c.Link); err != nil {
		return err
	}
	if a.Credential == "" && (given || !hadOwn) {
		if err := checkSecrets(c.Secrets, cannot); err != nil {
			return err
		}
		out.Gone = append(out.Gone, purposes(of)...)
		maps.Copy(out.Secrets, s.seal(of, c.Secrets))
		out.Gone = slices.DeleteFunc(out.Gone, func(p string) bool { return out.Secrets[p] != nil })
	}
	return rules.pin(cannot, a.Pin)
}

// layOptions lays the options of a change over those of an access.
func layOptions(cannot string, a *store.Access, rules link, c contract.AccessChange) error {
	a.Options.V = maps.Clone(a.Options.V)
	for name, value := range c.Options {
		if a.Options.V == nil {
			a.Options.V = map[string]string{}
		}
		if a.Options.V[name] = value; value == "" {
			delete(a.Options.V, name)
		} else if !slices.Contains(rules.options[name], value) {
			return problem.Reject(cannot, fmt.Sprintf("%s=%s is not an option of %s", name, value, c.Link),
				fmt.Sprintf("the options are %v", rules.options), next.Give.On("options"))
		}
	}
	return nil
}

// checkPlace checks the address of an access, and that it has a user.
func checkPlace(cannot string, a *store.Access, link string) error {
	switch {
	case a.Address != "" && request.AddressFlaw(a.Address) != "":
		return problem.Reject(cannot, request.AddressFlaw(a.Address), "give the address alone, without a port")
	case a.Port < 1 || a.Port > 65535:
		return problem.Reject(cannot, fmt.Sprintf("%d is not a port", a.Port), "give a port from 1 to 65535",
			next.Give.On("port"))
	case a.Credential == "" && a.User == "":
		return problem.Reject(cannot, "it has no user to sign in with over "+link, "give one, or a shared "+
			"credential", next.Give.On("user"), next.Give.On("credential"))
	}
	return nil
}

// AskPin connects to a server, the way into its site, just far enough to learn its
// host key, or over https the SHA-256 of its certificate.
func (s *Service) AskPin(ctx context.Context, link, site, address string, port int) (string, error) {
	audit.Say(ctx, "asked %s port %d", address, port)
	if link == procedure.HTTPS {
		pin, err := https.AskPin(ctx, s.Way(site), net.JoinHostPort(address, strconv.Itoa(port)))
		if err != nil {
			return "", problem.New(problem.Outside, "the certificate could not be read", err.Error(),
				"check that the device is on, and its address and port")
		}
		return pin, nil
	}
	pin, err := ssh.AskHostKey(ctx, s.Way(site), net.JoinHostPort(address, strconv.Itoa(port)))
	if err != nil {
		return "", problem.New(problem.Outside, "the host key could not be read", err.Error(),
			"check that the device is on, and its address and SSH port")
	}
	return pin, nil
}

// SSH opens the sealed secrets of a device for a link over SSH.
func (s *Service) SSH(ctx context.Context, d store.Device) (ssh.Target, error) {
	a, t, err := s.signIn(ctx, d, procedure.SSH)
	t.HostKey, t.OldSSH = a.Pin, a.Options.V[oldAlgorithms] == "yes"
	return t, err
}

// Config opens the sealed secrets of a device for a link by NETCONF.
func (s *Service) Config(ctx context.Context, d store.Device) (ssh.Target, error) {
	a, t, err := s.signIn(ctx, d, procedure.NETCONF)
	t.HostKey, t.OldSSH = a.Pin, a.Options.V[oldAlgorithms] == "yes"
	return t, err
}

// Web opens the sealed password of a device for a link to its web interface.
func (s *Service) Web(ctx context.Context, d store.Device) (https.Target, error) {
	a, t, err := s.signIn(ctx, d, procedure.HTTPS)
	return https.Target{Address: t.Address, User: t.User, Password: t.Password, Pins: []string{a.Pin},
		OldTLS: a.Options.V[oldTLS] == "yes"}, err
}

// signIn returns the access of a device over a link, and who signs in there with which secrets.
func (s *Service) signIn(ctx context.Context, d store.Device, link string) (store.Access, ssh.Target, error) {
	all, err := s.store.Devices.Access(ctx, d.ID)
	if err != nil {
		return store.Access{}, ssh.Target{}, err
	}
	i := slices.IndexFunc(all[d.ID], func(a store.Access) bool { return a.Link == link })
	if i < 0 {
		return store.Access{}, ssh.Target{}, problem.New(problem.Conflict, d.Name+" cannot be signed in to",
			"it has no access over "+link, "give a user or a shared credential, and the pin",
			next.ChangeDevice.On(d.Name))
	}
	a := all[d.ID][i]
	if a.Address == "" {
		a.Address = d.Address
	}
	t := ssh.Target{Address: net.JoinHostPort(a.Address, strconv.Itoa(a.Port)), User: a.User}
	if a.Credential == "" {
		return a, t, s.open(ctx, accessOf(d.Name, a.Link), &t)
	}
	shared, err := s.store.Credentials.Get(ctx, a.Credential)
	if err != nil {
		return a, t, noCredential(err, a.Credential)
	}
	t.User = shared.User
	if shared.Source != "" {
		err := s.ask(ctx, shared, d.Name, &t)
		return a, t, err
	}
	return a, t, s.open(ctx, "credential/"+a.Credential, &t)
}

// Show shows the access of a device.
func Show(all []store.Access) []contract.Access {
	out := make([]contract.Access, 0, len(all))
	for _, a := range all {
		options := a.Options.V
		if options == nil {
			options = map[string]string{}
		}
		out = append(out, contract.Access{Link: a.Link, Address: a.Address, Port: a.Port, User: a.User,
			Credential: a.Credential, Pin: a.Pin, Options: options})
	}
	return out
}
