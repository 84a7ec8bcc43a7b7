// Package plant is the stand-in of the kind "plant room": one combined file, a configuration, and a reboot.
package plant

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"freshseal/standin"

	"mvdan.cc/sh/v3/interp"
)

var _ = standin.Register(standin.PlantRoom,
	standin.Make{Faults: standin.FilesFaults, Commands: map[string]standin.Command{"reboot": reboot},
		Start: func(r *standin.Running) error {
			if err := layPlant(r); err != nil {
				return err
			}
			if pair, err := plantPair(r); err == nil {
				r.Serving.Store(pair)
			}
			return nil
		},
		Power: func(r *standin.Running) error {
			pair, err := plantPair(r)
			r.Serving.Store(pair)
			return err
		}})

const plantConfig = "/etc/plant/web.conf"

// plantFactory is what is in the configuration of a plant controller's web server.
const plantFactory = "# web server\r\nlisten 443\r\nbundle " + standin.CertificateFile + "\r\nidle 300\r\n"

// layPlant writes the configuration of a plant controller unless it is there.
func layPlant(r *standin.Running) error {
	if _, err := r.Root.Stat(standin.Inside(plantConfig)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := r.Root.MkdirAll(standin.Inside("/etc/plant/tls"), 0o700); err != nil {
		return err
	}
	return r.Root.WriteFile(standin.Inside(plantConfig), []byte(plantFactory), 0o644)
}

// reboot turns a plant controller off and on: it is away for a while, then serves what
// its configuration names. The leaf and its key are one file, the authorities another.
func reboot(r *standin.Running, _ interp.HandlerContext, _, _ []string) error {
	old := r.Serving.Swap(nil)
	r.Work.Go(func() {
		time.Sleep(r.Restart)
		if r.Faulty().KeepServing {
			r.Serving.Store(old)
			return
		}
		if pair, err := plantPair(r); err == nil && !r.Faulty().NeverBack {
			r.Serving.Store(pair)
		}
	})
	return nil
}

func plantPair(r *standin.Running) (*tls.Certificate, error) {
	text, err := r.Root.ReadFile(standin.Inside(plantConfig))
	if err != nil {
		return nil, err
	}
	set := map[string]string{}
	for line := range strings.Lines(string(text)) {
		if name, value, ok := strings.Cut(strings.TrimSpace(line), " "); ok {
			set[name] = value
		}
	}
	bundle, err := r.Root.ReadFile(standin.Inside(set["bundle"]))
	if err != nil {
		return nil, err
	}
	if set["bundle"] == standin.CertificateFile { // as delivered, with a key of its own
		return factory(r)
	}
	more := []byte{}
	if set["authorities"] != "" && !r.Faulty().LeafAlone {
		if more, err = r.Root.ReadFile(standin.Inside(set["authorities"])); err != nil {
			return nil, err
		}
	}
	pair, err := tls.X509KeyPair(append(append([]byte{}, bundle...), more...), bundle)
	return &pair, err
}

func factory(r *standin.Running) (*tls.Certificate, error) {
	certificate, err1 := r.Root.ReadFile(standin.Inside(standin.CertificateFile))
	key, err2 := r.Root.ReadFile(standin.Inside(standin.KeyFile))
	if err := errors.Join(err1, err2); err != nil {
		return nil, fmt.Errorf("as delivered: %w", err)
	}
	pair, err := tls.X509KeyPair(certificate, key)
	return &pair, err
}

// PlantConfig returns the configuration of a plant controller as it stands.
func PlantConfig(r *standin.Running) string {
	text, _ := r.Root.ReadFile(standin.Inside(plantConfig))
	return string(text)
}

// PlantFactory returns the configuration that it was delivered with.
func PlantFactory() string { return plantFactory }
