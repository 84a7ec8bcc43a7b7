package standin

import (
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"slices"
	"strings"
)

// gear is what a piece of network gear knows: entries with key and certificate, and
// which one its web server uses. What is not kept is lost when it restarts.
type gear struct {
	Web     string
	Entries map[string]gearEntry
}

type gearEntry struct{ Key, Certificate []byte }

const keptGear = "/flash/kept"

func (r *Running) openGear() (g gear, err error) {
	text, err := r.root.ReadFile(inside(keptGear))
	if err == nil {
		return g, json.Unmarshal(text, &g)
	}
	g = gear{Web: "factory", Entries: map[string]gearEntry{}}
	var e gearEntry
	if e.Certificate, err = r.root.ReadFile(inside(CertificateFile)); err != nil {
		return g, err
	}
	if e.Key, err = r.root.ReadFile(inside(KeyFile)); err != nil {
		return g, err
	}
	g.Entries["factory"] = e
	return g, r.keepGear(g)
}

func (r *Running) keepGear(g gear) error {
	text, err := json.Marshal(g)
	if err != nil {
		return err
	}
	if err := r.root.MkdirAll(inside("/flash"), 0o700); err != nil {
		return err
	}
	return r.root.WriteFile(inside(keptGear), text, 0o600)
}

// Reboot turns gear off and on: what was not kept is lost.
func (r *Running) Reboot() error {
	r.gearLock.Lock()
	defer r.gearLock.Unlock()
	r.gear = nil
	g, err := r.openGear()
	if err != nil {
		return err
	}
	return r.serveEntry(g.Entries[g.Web])
}

func (r *Running) serveEntry(e gearEntry) error {
	pair, err := tls.X509KeyPair(e.Certificate, e.Key)
	if err == nil {
		r.serving.Store(&pair)
	}
	return err
}

// gearLine is the command line of a Lumsk switch: prompts that end in > and #, a
// mode with a secret word of its own, pages, a certificate that is pasted, and faults
// that are told by a number.
func (r *Running) gearLine(t *terminal) error {
	r.gearLock.Lock()
	defer r.gearLock.Unlock()
	if r.gear == nil {
		g, err := r.openGear()
		if err != nil {
			return err
		}
		r.gear = &g
	}
	s := &gearSession{Running: r, terminal: t, pages: true}
	t.say("Lumsk Q-24, berth 3\n\n")
	for {
		if r.faulty().Silent {
			_, err := t.line()
			return err
		}
		sign := "> "
		if s.raised {
			sign = "# "
		}
		if r.faulty().OtherPrompt {
			sign = "$ "
		}
		line, err := t.ask("berth-3" + sign)
		if err != nil {
			return err
		}
		if line == "exit" {
			return nil
		}
		r.watched(line, func() { err = s.execute(strings.Fields(line)) })
		if err != nil {
			return err
		}
	}
}

type gearSession struct {
	*Running
	*terminal
	raised, pages bool
}

// execute runs a command. Its error ends the session; what a person did wrong is
// only told.
func (s *gearSession) execute(args []string) error {
	command := strings.Join(args[:min(2, len(args))], " ")
	if !s.raised && !slices.Contains([]string{"", "raise", "show web"}, command) {
		s.say("fault 11: not in this mode\n")
		return nil
	}
	name := ""
	if len(args) > 2 {
		name = args[2]
	}
	switch command {
	case "":
	case "raise":
		word, err := s.secret("Secret word: ")
		if err != nil {
			return err
		}
		if s.raised = word == s.Secret; !s.raised {
			s.say("fault 4: wrong word\n")
		}
	case "pages off":
		s.pages = false
	case "show web":
		s.say("web server uses %s\n", s.gear.Web)
	case "show all":
		return s.showAll()
	case "entry make":
		return s.make(name)
	case "entry paste":
		return s.paste(name)
	case "entry drop":
		delete(s.gear.Entries, name)
	case "web use":
		e, known := s.gear.Entries[name]
		if !known || s.faulty().FailTest && !s.isUsual(e.Certificate) {
			s.say("fault 31: no such entry, or it is not complete\n")
			return nil
		}
		s.gear.Web = name
		if s.faulty().KeepServing && !s.isUsual(e.Certificate) {
			return nil
		}
		if s.serveEntry(e) != nil {
			s.say("fault 32: web server off\n")
		}
	case "keep all":
		return s.keepGear(*s.gear)
	default:
		s.say("fault 1: not understood\n")
	}
	return nil
}

// showAll prints the running configuration, page by page.
func (s *gearSession) showAll() error {
	lines := []string{"name berth-3", "web " + s.gear.Web}
	for i := range 40 {
		lines = append(lines, fmt.Sprintf("port %d lane %d", i+1, i%4+1))
	}
	for i, line := range lines {
		s.say("%s\n", line)
		if s.pages && i%20 == 19 {
			s.say("-- space: more --")
			if c, err := s.pressed(); err != nil || c != ' ' {
				s.say("\r                 \r")
				return err
			}
			s.say("\r                 \r")
		}
	}
	return nil
}

func (s *gearSession) make(name string) error {
	answers := map[string]string{}
	for _, q := range []string{"Common name", "Organization", "Unit", "Locality", "State", "Country", "Names"} {
		var err error
		if answers[q], err = s.ask(q + ": "); err != nil {
			return err
		}
	}
	if _, taken := s.gear.Entries[name]; taken || name == "" {
		s.say("fault 21: the name is taken\n")
		return nil
	}
	request, key, err := newRequest("ec", answered(answers), words(answers["Names"]), nil)
	if err != nil {
		s.say("fault 22: %v\n", err)
		return nil
	}
	s.gear.Entries[name] = gearEntry{Key: key}
	s.say("-- request of %s begins --\n%s-- request ends --\n", name, request)
	return nil
}

// paste takes lines until one with a dot.
func (s *gearSession) paste(name string) error {
	s.say("Paste leaf and intermediates; a line with a dot ends it.\n")
	var text strings.Builder
	for {
		line, err := s.line()
		if err != nil {
			return err
		}
		if line == "." {
			break
		}
		text.WriteString(line + "\n")
	}
	e := s.gear.Entries[name]
	if _, err := tls.X509KeyPair([]byte(text.String()), e.Key); err != nil || e.Key == nil {
		s.say("fault 27\n")
		return nil
	}
	n := 0
	for rest := []byte(text.String()); ; n++ {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
	}
	e.Certificate = []byte(text.String())
	if s.faulty().LeafAlone {
		block, _ := pem.Decode(e.Certificate)
		e.Certificate = pem.EncodeToMemory(block)
	}
	s.gear.Entries[name] = e
	s.say("taken: %d\n", n)
	return nil
}
