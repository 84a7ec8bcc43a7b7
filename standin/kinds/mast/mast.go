// Package mast is the stand-in of the kind "signal mast": a menu whose change goes back by itself unless it is
// confirmed.
package mast

import (
	"crypto/x509/pkix"
	"errors"
	"strings"
	"sync"
	"time"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.SignalMast,
	standin.Make{Faults: []string{"refuses", "keeps-serving", "leaf-alone", "third-certificate", "silent",
		"other-prompt"}, Programs: map[string]standin.Program{"": mastMenu}})

// What a signal mast goes back to unless a change is confirmed.
const (
	trialChain = "/var/web/trial.pem"
	trialKey   = "/var/web/trial.key"
)

// onTrial is how long a signal mast waits for the confirmation of a change, in parts of its time.
const onTrial = 20

// mastMenu is the menu of a signal mast.
func mastMenu(r *standin.Running, t *standin.Terminal) error {
	t.Say("Sunder Mast 3\n")
	if r.Faulty().Silent {
		_, err := t.Line()
		return err
	}
	for {
		prompt := "\n r) request  i) install  c) confirm  b) back to the one before  s) show  q) quit\nmast> "
		if r.Faulty().OtherPrompt {
			prompt = "\nLicence expired. Go on? "
		}
		choice, err := t.Ask(prompt)
		if err != nil {
			return err
		}
		switch choice {
		case "q":
			return nil
		case "r":
			err = mastRequest(r, t)
		case "i":
			r.Watched("install", func() { err = mastInstall(r, t) })
		case "c":
			r.Watched("confirm", func() { mastConfirm(r, t) })
		case "b":
			r.Watched("back", func() { mastConfirm(r, t); err = r.GoBackWeb() })
		case "s":
			w := r.Shows()
			t.Say("In use: %s\nBefore: %s\n", standin.OrNone(w.Now), standin.OrNone(w.Previous))
		default:
			t.Say("There is no such choice.\n")
		}
		if errors.Is(err, standin.ErrHungUp) {
			return err
		} else if err != nil {
			t.Say("Refused: %v\n", err)
		}
	}
}

func mastRequest(r *standin.Running, t *standin.Terminal) error {
	answers, err := parts.Fields(t, [2]string{"Common name", ""}, [2]string{"Organization", ""}, [2]string{"Names", ""})
	if err != nil {
		return err
	}
	der, err := r.NextRequest(pkix.Name{CommonName: answers[0], Organization: standin.Some(answers[1])},
		strings.Split(answers[2], ","), "")
	if err == nil {
		t.Say("%s", standin.PemOf("CERTIFICATE REQUEST", der))
	}
	return err
}

// mastInstall puts a chain in use until the timer ends, unless the change is confirmed before.
func mastInstall(r *standin.Running, t *standin.Terminal) error {
	trial := standin.StateOf[mastTrial](r)
	t.Say("Paste leaf and intermediates, then a line with a dot.\n")
	var chain strings.Builder
	for {
		line, err := t.Line()
		if err != nil {
			return err
		}
		if line == "." {
			break
		}
		chain.WriteString(line + "\n")
	}
	if err := r.Take([]byte(chain.String())); err != nil {
		return err
	}
	oldChain, err1 := r.Root.ReadFile(standin.Inside(standin.CertificateFile))
	oldKey, err2 := r.Root.ReadFile(standin.Inside(standin.KeyFile))
	if err := errors.Join(err1, err2, r.Lay(map[string][]byte{trialChain: oldChain, trialKey: oldKey}),
		r.Use()); err != nil {
		return err
	}
	trial.lock.Lock()
	defer trial.lock.Unlock()
	trial.timer = time.AfterFunc(onTrial*r.Restart, func() { r.PagesUse(trialChain, trialKey, false) })
	t.Say("On trial: it goes back unless it is confirmed.\n")
	return nil
}

func mastConfirm(r *standin.Running, t *standin.Terminal) {
	trial := standin.StateOf[mastTrial](r)
	trial.lock.Lock()
	defer trial.lock.Unlock()
	if trial.timer == nil || !trial.timer.Stop() {
		t.Say("Nothing is on trial.\n")
		return
	}
	trial.timer = nil
	t.Say("Confirmed.\n")
}

// mastTrial is the change of a signal mast that is not confirmed yet.
type mastTrial struct {
	lock  sync.Mutex
	timer *time.Timer
}
