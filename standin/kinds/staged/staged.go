// Package staged is the stand-in of the kind "staged vault": files are staged, and a menu applies them.
package staged

import (
	"errors"
	"io/fs"
	"path"
	"strings"

	"freshseal/standin"
)

var _ = standin.Register(standin.StagedVault,
	standin.Make{Faults: []string{"refuses", "keeps-serving", "leaf-alone", "disk-full", "read-only", "drops-upload",
		"never-back", "silent", "other-prompt"},
		Programs: map[string]standin.Program{"": stageDesk},
		Start:    func(r *standin.Running) error { return r.Root.MkdirAll(standin.Inside(standin.Stage), 0o700) }})

// stageDesk is the console of an appliance that takes a change in two acts: files are
// laid into a folder, and a menu applies them, restarts its own page and says so. What
// was applied before it can put back once.
func stageDesk(r *standin.Running, t *standin.Terminal) error {
	t.Say("Lumsk Vault Link console\n")
	if r.Faulty().Silent {
		_, err := t.Line()
		return err
	}
	for {
		prompt := " s) show what is staged\n a) apply it\n p) put back what was applied before\n i) show what is " +
			"in use\n x) exit\nSelect> "
		if r.Faulty().OtherPrompt {
			prompt = "Another administrator is in the console. Join? "
		}
		choice, err := t.Ask("\n" + prompt)
		if err != nil {
			return err
		}
		switch choice {
		case "x":
			return nil
		case "s":
			names := []string{}
			entries, _ := fs.ReadDir(r.Root.FS(), standin.Inside(standin.Stage))
			for _, e := range entries {
				names = append(names, e.Name())
			}
			t.Say("Staged: %s\n", strings.Join(names, " "))
		case "i":
			t.Say("In use: %s\nAfter a restart: %s\nApplied before: %s\n",
				standin.OrNone(standin.Fingerprint(r.Served())),
				standin.OrNone(r.LeafIn(standin.CertificateFile)),
				standin.OrNone(r.LeafIn(standin.CertificateFile+".before")))
		case "a":
			r.Watched("apply", func() { err = apply(r, t) })
		case "p":
			r.Watched("put back", func() { err = unapply(r, t) })
		default:
			t.Say("Unknown.\n")
		}
		if errors.Is(err, standin.ErrHungUp) {
			return err
		} else if err != nil {
			t.Say("Not applied: %v\n", err)
		}
	}
}

// apply puts what is staged in use, and restarts the page of the console.
func apply(r *standin.Running, t *standin.Terminal) error {
	certificate, err := r.Root.ReadFile(standin.Inside(path.Join(standin.Stage, "console.pem")))
	if err != nil {
		return errors.New("nothing is staged for the console")
	}
	key, err := r.Root.ReadFile(standin.Inside(path.Join(standin.Stage, "console.key")))
	if err != nil {
		return errors.New("the key is not staged")
	}
	if answer, err := t.Ask("Apply to the console and restart it? (yes/no) "); err != nil || answer != "yes" {
		return err
	}
	t.Say("Checking...\n")
	if r.Faulty().FailTest {
		return errors.New("the chain is not accepted")
	}
	for from, to := range map[string]string{standin.CertificateFile: standin.CertificateFile + ".before",
		standin.KeyFile: standin.KeyFile +
			".before"} {
		old, err := r.Root.ReadFile(standin.Inside(from))
		if err != nil {
			return err
		}
		if err := r.Root.WriteFile(standin.Inside(to), old, 0o600); err != nil {
			return err
		}
	}
	return restartWith(r, t, certificate, key)
}

func restartWith(r *standin.Running, t *standin.Terminal, certificate, key []byte) error {
	if err := r.Root.WriteFile(standin.Inside(standin.CertificateFile), certificate, 0o600); err != nil {
		return err
	}
	if err := r.Root.WriteFile(standin.Inside(standin.KeyFile), key, 0o600); err != nil {
		return err
	}
	t.Say("Restarting the console...\n")
	if !r.Faulty().KeepServing {
		r.Serving.Store(nil)
		r.Takes(1)
		if err := r.Load(); err != nil {
			return err
		}
	}
	t.Say("Applied.\n")
	return nil
}

func unapply(r *standin.Running, t *standin.Terminal) error {
	certificate, err1 := r.Root.ReadFile(standin.Inside(standin.CertificateFile + ".before"))
	key, err2 := r.Root.ReadFile(standin.Inside(standin.KeyFile + ".before"))
	if errors.Join(err1, err2) != nil {
		t.Say("Nothing was applied before.\n")
		return nil
	}
	return restartWith(r, t, certificate, key)
}
