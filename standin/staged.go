package standin

import (
	"errors"
	"io/fs"
	"path"
	"strings"
)

// stage is where an appliance expects what is to be applied.
const stage = "/stage"

// stageDesk is the console of an appliance that takes a change in two acts: files are
// laid into a folder, and a menu applies them, restarts its own page and says so. What
// was applied before it can put back once.
func (r *Running) stageDesk(t *terminal) error {
	t.say("Lumsk Vault Link console\n")
	if r.faulty().Silent {
		_, err := t.line()
		return err
	}
	for {
		prompt := " s) show what is staged\n a) apply it\n p) put back what was applied before\n i) show what is " +
			"in use\n x) exit\nSelect> "
		if r.faulty().OtherPrompt {
			prompt = "Another administrator is in the console. Join? "
		}
		choice, err := t.ask("\n" + prompt)
		if err != nil {
			return err
		}
		switch choice {
		case "x":
			return nil
		case "s":
			names := []string{}
			entries, _ := fs.ReadDir(r.root.FS(), inside(stage))
			for _, e := range entries {
				names = append(names, e.Name())
			}
			t.say("Staged: %s\n", strings.Join(names, " "))
		case "i":
			t.say("In use: %s\nAfter a restart: %s\nApplied before: %s\n", orNone(fingerprint(r.served())),
				orNone(r.leafIn(CertificateFile)), orNone(r.leafIn(CertificateFile+".before")))
		case "a":
			r.watched("apply", func() { err = r.apply(t) })
		case "p":
			r.watched("put back", func() { err = r.unapply(t) })
		default:
			t.say("Unknown.\n")
		}
		if errors.Is(err, errHungUp) {
			return err
		} else if err != nil {
			t.say("Not applied: %v\n", err)
		}
	}
}

// apply puts what is staged in use, and restarts the page of the console.
func (r *Running) apply(t *terminal) error {
	certificate, err := r.root.ReadFile(inside(path.Join(stage, "console.pem")))
	if err != nil {
		return errors.New("nothing is staged for the console")
	}
	key, err := r.root.ReadFile(inside(path.Join(stage, "console.key")))
	if err != nil {
		return errors.New("the key is not staged")
	}
	if answer, err := t.ask("Apply to the console and restart it? (yes/no) "); err != nil || answer != "yes" {
		return err
	}
	t.say("Checking...\n")
	if r.faulty().FailTest {
		return errors.New("the chain is not accepted")
	}
	for from, to := range map[string]string{CertificateFile: CertificateFile + ".before", KeyFile: KeyFile +
		".before"} {
		old, err := r.root.ReadFile(inside(from))
		if err != nil {
			return err
		}
		if err := r.root.WriteFile(inside(to), old, 0o600); err != nil {
			return err
		}
	}
	return r.restartWith(t, certificate, key)
}

func (r *Running) restartWith(t *terminal, certificate, key []byte) error {
	if err := r.root.WriteFile(inside(CertificateFile), certificate, 0o600); err != nil {
		return err
	}
	if err := r.root.WriteFile(inside(KeyFile), key, 0o600); err != nil {
		return err
	}
	t.say("Restarting the console...\n")
	if !r.faulty().KeepServing {
		r.serving.Store(nil)
		r.takes(1)
		if err := r.load(); err != nil {
			return err
		}
	}
	t.say("Applied.\n")
	return nil
}

func (r *Running) unapply(t *terminal) error {
	certificate, err1 := r.root.ReadFile(inside(CertificateFile + ".before"))
	key, err2 := r.root.ReadFile(inside(KeyFile + ".before"))
	if errors.Join(err1, err2) != nil {
		t.say("Nothing was applied before.\n")
		return nil
	}
	return r.restartWith(t, certificate, key)
}
