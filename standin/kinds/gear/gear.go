// Package gear is the stand-in of the kind "network gear": a command line of its own, and no shell.
package gear

import (
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"slices"
	"strings"
	"sync"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.NetworkGear,
	standin.Make{Faults: []string{"refuses", "keeps-serving", "leaf-alone", "drops-upload", "silent", "other-prompt"},
		NoShell: true, Power: Reboot,
		Programs: map[string]standin.Program{"": gearLine}})

const keptGear = "/flash/kept"

func openGear(r *standin.Running) (g gear, err error) {
	text, err := r.Root.ReadFile(standin.Inside(keptGear))
	if err == nil {
		return g, json.Unmarshal(text, &g)
	}
	g = gear{Web: "factory", Entries: map[string]gearEntry{}}
	var e gearEntry
	if e.Certificate, err = r.Root.ReadFile(standin.Inside(standin.CertificateFile)); err != nil {
		return g, err
	}
	if e.Key, err = r.Root.ReadFile(standin.Inside(standin.KeyFile)); err != nil {
		return g, err
	}
	g.Entries["factory"] = e
	return g, keepGear(r, g)
}

func keepGear(r *standin.Running, g gear) error {
	text, err := json.Marshal(g)
	if err != nil {
		return err
	}
	if err := r.Root.MkdirAll(standin.Inside("/flash"), 0o700); err != nil {
		return err
	}
	return r.Root.WriteFile(standin.Inside(keptGear), text, 0o600)
}

// Reboot turns gear off and on: what was not kept is lost.
func Reboot(r *standin.Running) error {

	running := standin.StateOf[gearState](r)
	running.lock.Lock()
	defer running.lock.Unlock()
	running.gear = nil
	g, err := openGear(r)
	if err != nil {
		return err
	}
	return serveEntry(r, g.Entries[g.Web])
}

func serveEntry(r *standin.Running, e gearEntry) error {
	pair, err := tls.X509KeyPair(e.Certificate, e.Key)
	if err == nil {
		r.Serving.Store(&pair)
	}
	return err
}

// gearLine is the command line of a Lumsk switch: prompts that end in > and #, a
// mode with a secret word of its own, pages, a certificate that is pasted, and faults
// that are told by a number.
func gearLine(r *standin.Running, t *standin.Terminal) error {
	running := standin.StateOf[gearState](r)
	running.lock.Lock()
	defer running.lock.Unlock()
	if running.gear == nil {
		g, err := openGear(r)
		if err != nil {
			return err
		}
		running.gear = &g
	}
	s := &gearSession{Running: r, Terminal: t, gear: running.gear, pages: true}
	t.Say("Lumsk Q-24, berth 3\n\n")
	for {
		if r.Faulty().Silent {
			_, err := t.Line()
			return err
		}
		sign := "> "
		if s.raised {
			sign = "# "
		}
		if r.Faulty().OtherPrompt {
			sign = "$ "
		}
		line, err := t.Ask("berth-3" + sign)
		if err != nil {
			return err
		}
		if line == "exit" {
			return nil
		}
		r.Watched(line, func() { err = s.execute(strings.Fields(line)) })
		if err != nil {
			return err
		}
	}
}

type gearSession struct {
	*standin.Running
	*standin.Terminal
	gear          *gear
	raised, pages bool
}

// execute runs a command. Its error ends the session; what a person did wrong is
// only told.
func (s *gearSession) execute(args []string) error {
	command := strings.Join(args[:min(2, len(args))], " ")
	if !s.raised && !slices.Contains([]string{"", "raise", "show web"}, command) {
		s.Say("fault 11: not in this mode\n")
		return nil
	}
	name := ""
	if len(args) > 2 {
		name = args[2]
	}
	switch command {
	case "":
	case "raise":
		word, err := s.AskSecret("Secret word: ")
		if err != nil {
			return err
		}
		if s.raised = word == s.Secret; !s.raised {
			s.Say("fault 4: wrong word\n")
		}
	case "pages off":
		s.pages = false
	case "show web":
		s.Say("web server uses %s\n", s.gear.Web)
	case "show all":
		return s.showAll()
	case "entry make":
		return s.make(name)
	case "entry paste":
		return s.paste(name)
	case "entry drop":
		delete(s.gear.Entries, name)
	case "web use":
		s.use(name)
	case "keep all":
		return keepGear(s.Running, *s.gear)
	default:
		s.Say("fault 1: not understood\n")
	}
	return nil
}

// use has the web server use an entry.
func (s *gearSession) use(name string) {
	e, known := s.gear.Entries[name]
	if !known || s.Faulty().FailTest && !s.IsUsual(e.Certificate) {
		s.Say("fault 31: no such entry, or it is not complete\n")
		return
	}
	s.gear.Web = name
	if s.Faulty().KeepServing && !s.IsUsual(e.Certificate) {
		return
	}
	if serveEntry(s.Running, e) != nil {
		s.Say("fault 32: web server off\n")
	}
}

// showAll prints the running configuration, page by page.
func (s *gearSession) showAll() error {
	lines := []string{"name berth-3", "web " + s.gear.Web}
	for i := range 40 {
		lines = append(lines, fmt.Sprintf("port %d lane %d", i+1, i%4+1))
	}
	for i, line := range lines {
		s.Say("%s\n", line)
		if s.pages && i%20 == 19 {
			s.Say("-- space: more --")
			if c, err := s.Pressed(); err != nil || c != ' ' {
				s.Say("\r                 \r")
				return err
			}
			s.Say("\r                 \r")
		}
	}
	return nil
}

func (s *gearSession) make(name string) error {
	answers := map[string]string{}
	for _, q := range []string{"Common name", "Organization", "Unit", "Locality", "State", "Country", "Names"} {
		var err error
		if answers[q], err = s.Ask(q + ": "); err != nil {
			return err
		}
	}
	if _, taken := s.gear.Entries[name]; taken || name == "" {
		s.Say("fault 21: the name is taken\n")
		return nil
	}
	request, key, err := parts.NewRequest("ec", parts.Answered(answers), parts.Words(answers["Names"]), nil)
	if err != nil {
		s.Say("fault 22: %v\n", err)
		return nil
	}
	s.gear.Entries[name] = gearEntry{Key: key}
	s.Say("-- request of %s begins --\n%s-- request ends --\n", name, request)
	return nil
}

// paste takes lines until one with a dot.
func (s *gearSession) paste(name string) error {
	s.Say("Paste leaf and intermediates; a line with a dot ends it.\n")
	var text strings.Builder
	for {
		line, err := s.Line()
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
		s.Say("fault 27\n")
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
	if s.Faulty().LeafAlone {
		block, _ := pem.Decode(e.Certificate)
		e.Certificate = pem.EncodeToMemory(block)
	}
	s.gear.Entries[name] = e
	s.Say("taken: %d\n", n)
	return nil
}

// gear is what a piece of network gear knows: entries with key and certificate, and
// which one its web server uses. What is not kept is lost when it restarts.
type gear struct {
	Web     string
	Entries map[string]gearEntry
}

type gearEntry struct{ Key, Certificate []byte }

// gearState is what network gear runs with.
type gearState struct {
	lock sync.Mutex
	gear *gear // nil: as it was kept
}
