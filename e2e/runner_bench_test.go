package e2e

import (
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/core/language/library"
	device "freshseal/device/ssh"
	"freshseal/standin"

	"golang.org/x/crypto/ssh"
)

// BenchmarkRunner measures what the runner adds to the steps of a replacement on a real
// sshd: the same commands and files, as the journal has them, are carried out once more by
// a plain SSH client over one connection. The box's restart takes ten seconds, which is
// short for a box.
func BenchmarkRunner(b *testing.B) {
	box := startBox(b)
	folder := b.TempDir()
	text := strings.Replace(library.Builtin()["web-files-ssh"].YAML, "procedure: web-files-ssh",
		"procedure: slow-web", 1)
	write(b, folder+"/slow-web.procedure.yaml", text+"    - {step: restart it, run: \"sleep 10\", undo: nothing}\n")
	s := startAt(b, "serve", b.TempDir(), "127.0.0.1:0", "--procedures", folder)
	s.login()
	box.add(b, s, "--family", "slow-web")
	for b.Loop() {
		s.ok("replace", realBox+"/web", "--signer", "bench", "--watch")
		var r struct {
			Steps []struct {
				Stage, Verb, Text string
				Began_at          time.Time
				Ended_at          time.Time
			}
		}
		var last []struct{ ID string }
		s.json(&last, "replacement", "list")
		s.json(&r, "replacement", "show", last[0].ID)
		client, err := ssh.Dial("tcp", net.JoinHostPort(box.address, box.sshPort), plain(b, box.target(b)))
		if err != nil {
			b.Fatal(err)
		}
		work := b.TempDir()
		does := func(command string, in []byte) {
			session, err := client.NewSession()
			if err != nil {
				b.Fatal(err)
			}
			defer session.Close()
			session.Stdin = bytes.NewReader(in)
			if out, err := session.CombinedOutput(command); err != nil {
				b.Fatalf("%s: %v %s", command, err, out)
			}
		}
		var ours, theirs time.Duration
		steps := 0
		at := "" // the work folder of the replacement
		for _, step := range r.Steps {
			if _, after, ok := strings.Cut(step.Text, box.at("work")+"/"); ok && at == "" {
				name, _, _ := strings.Cut(after, "/")
				at = box.at("work") + "/" + name
			}
			text := step.Text
			if at != "" {
				text = strings.ReplaceAll(text, at, work)
			}
			begun := time.Now()
			switch {
			case step.Stage != "request" && step.Stage != "activate":
				continue
			case step.Verb == "run":
				does(text, nil)
			case step.Verb == "file":
				file, content := filepath.Base(strings.Fields(text)[0]), bytes.Repeat([]byte("x"), 3000)
				if file == "request.cnf" {
					content = []byte("[req]\ndistinguished_name=d\nprompt=no\n[d]\nCN=x\n")
				}
				does("cat > "+work+"/"+file, content)
			case step.Verb == "fetch":
				does("cat "+work+"/request.pem", nil)
			default:
				continue
			}
			theirs += time.Since(begun)
			ours += step.Ended_at.Sub(step.Began_at)
			steps++
		}
		client.Close()
		b.ReportMetric(float64(ours)/float64(theirs), "x-of-plain-ssh")
		b.ReportMetric(float64((ours-theirs).Milliseconds())/float64(steps), "ms-more-a-step")
	}
}

// plain is how a plain client signs in to a box.
func plain(b *testing.B, to device.Target) *ssh.ClientConfig {
	key, err := ssh.ParsePrivateKeyWithPassphrase(to.Key, to.Passphrase)
	if err != nil {
		b.Fatal(err)
	}
	return &ssh.ClientConfig{User: to.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(key)},
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if key.Type()+" "+ssh.FingerprintSHA256(key) != to.HostKey {
				return errors.New("another host key")
			}
			return nil
		}}
}

// BenchmarkFiftyDevices measures the pages of lists while fifty devices are replaced at once.
func BenchmarkFiftyDevices(b *testing.B) {
	s := startAt(b, "serve", b.TempDir(), "127.0.0.1:0", "--read-every", "0")
	s.login()
	var lines strings.Builder
	lines.WriteString("name,address,family,slot,port,ssh:user,ssh:password,ssh:pin,ssh:port\n")
	for i := range 50 {
		box := simulated(b, standin.Box{Restart: time.Second})
		host, sshPort, _ := net.SplitHostPort(box.SSHAddr)
		_, web, _ := net.SplitHostPort(box.TLSAddr)
		fmt.Fprintf(&lines, "winch-%02d.tidewrack.example,%s,web-files-ssh,web,%s,keeper,correct horse,%s,%s\n", i,
			host, web, box.HostKey(), sshPort)
	}
	s.ok("device", "import", write(b, b.TempDir()+"/fleet.csv", lines.String()))
	s.ok("sweep")
	_, rest, _ := strings.Cut(read(b, s.config), "token: ")
	token := strings.Trim(strings.Fields(rest)[0], `"`)
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	rounds := 0
	var times []time.Duration
	for b.Loop() {
		rounds++
		begun := time.Now()
		s.ok("batch", "start", "--text", "winch", "--by", "bench")
		for {
			for _, list := range []string{"/slots?limit=50", "/devices?limit=50", "/replacements?limit=50"} {
				asked := time.Now()
				call(b, client, token, "GET", s.url+"/api/v1"+list, nil, nil)
				times = append(times, time.Since(asked))
			}
			batch := s.ok("batch", "show", fmt.Sprintf("b%d", rounds))
			if strings.Contains(batch, " 50 sealed") {
				break
			}
			if time.Since(begun) > 2*time.Minute {
				b.Fatalf("after 2 minutes:\n%s", batch)
			}
		}
		b.ReportMetric(time.Since(begun).Seconds(), "s-for-50-devices")
	}
	slices.Sort(times)
	p99 := float64(times[len(times)*99/100].Microseconds()) / 1000
	b.ReportMetric(p99, "ms-p99-page")
	b.ReportMetric(p99/100, "x-of-100ms")
}
