package standin

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"mvdan.cc/sh/v3/interp"
)

const plantConfig = "/etc/plant/web.conf"

// plantFactory is what stands in the configuration of a plant controller's web server.
const plantFactory = "# web server\r\nlisten 443\r\nbundle " + CertificateFile + "\r\nidle 300\r\n"

// layPlant writes the configuration of a plant controller unless it is there.
func (r *Running) layPlant() error {
	if _, err := r.root.Stat(inside(plantConfig)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := r.root.MkdirAll(inside("/etc/plant/tls"), 0o700); err != nil {
		return err
	}
	return r.root.WriteFile(inside(plantConfig), []byte(plantFactory), 0o644)
}

// reboot turns a plant controller off and on: it is away for a while, then serves what
// its configuration names. The leaf and its key are one file, the authorities another.
func (r *Running) reboot(interp.HandlerContext, []string, []string) error {
	old := r.serving.Swap(nil)
	r.work.Go(func() {
		time.Sleep(r.Restart)
		if r.faulty().KeepServing {
			r.serving.Store(old)
			return
		}
		if pair, err := r.plantPair(); err == nil && !r.faulty().NeverBack {
			r.serving.Store(pair)
		}
	})
	return nil
}

func (r *Running) plantPair() (*tls.Certificate, error) {
	text, err := r.root.ReadFile(inside(plantConfig))
	if err != nil {
		return nil, err
	}
	set := map[string]string{}
	for line := range strings.Lines(string(text)) {
		if name, value, ok := strings.Cut(strings.TrimSpace(line), " "); ok {
			set[name] = value
		}
	}
	bundle, err := r.root.ReadFile(inside(set["bundle"]))
	if err != nil {
		return nil, err
	}
	if set["bundle"] == CertificateFile { // as delivered, with a key of its own
		return r.factory()
	}
	more := []byte{}
	if set["authorities"] != "" && !r.faulty().LeafAlone {
		if more, err = r.root.ReadFile(inside(set["authorities"])); err != nil {
			return nil, err
		}
	}
	pair, err := tls.X509KeyPair(append(append([]byte{}, bundle...), more...), bundle)
	return &pair, err
}

func (r *Running) factory() (*tls.Certificate, error) {
	certificate, err1 := r.root.ReadFile(inside(CertificateFile))
	key, err2 := r.root.ReadFile(inside(KeyFile))
	if err := errors.Join(err1, err2); err != nil {
		return nil, fmt.Errorf("as delivered: %w", err)
	}
	pair, err := tls.X509KeyPair(certificate, key)
	return &pair, err
}

// PlantConfig is the configuration of a plant controller as it stands.
func (r *Running) PlantConfig() string {
	text, _ := r.root.ReadFile(inside(plantConfig))
	return string(text)
}

// PlantFactory is the configuration that it was delivered with.
func PlantFactory() string { return plantFactory }
