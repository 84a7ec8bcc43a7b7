package ssh

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/device/links"
	"freshseal/standin/daemon"

	"github.com/pkg/sftp"
	crypto "golang.org/x/crypto/ssh"
)

// folders is a device without a shell that says of itself what it likes: every folder holds what list gives for it.
type folders struct {
	list    func(path string, offset int64) []fs.FileInfo
	removed atomic.Int64
}

func (f *folders) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method != "List" {
		return entries{func(int64) []fs.FileInfo { return []fs.FileInfo{entry{"x", true}} }, 1}, nil
	}
	return entries{func(offset int64) []fs.FileInfo { return f.list(r.Filepath, offset) }, -1}, nil
}

func (f *folders) Filecmd(*sftp.Request) error { f.removed.Add(1); return nil }

type entries struct {
	of   func(offset int64) []fs.FileInfo
	most int
}

func (e entries) ListAt(to []fs.FileInfo, offset int64) (int, error) {
	if e.most > 0 && offset >= int64(e.most) {
		return 0, io.EOF
	}
	n := copy(to, e.of(offset))
	if n == 0 {
		return 0, io.EOF
	}
	return n, nil
}

type entry struct {
	name   string
	folder bool
}

func (e entry) Name() string { return e.name }
func (entry) Size() int64    { return 0 }
func (e entry) Mode() fs.FileMode {
	if e.folder {
		return fs.ModeDir | 0o700
	}
	return 0o600
}
func (entry) ModTime() time.Time { return time.Time{} }
func (e entry) IsDir() bool      { return e.folder }
func (entry) Sys() any           { return nil }

// serveFolders answers SFTP alone, over SSH.
func serveFolders(t *testing.T, f *folders) *Link {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := crypto.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	config := &crypto.ServerConfig{NoClientAuth: true,
		PasswordCallback: func(crypto.ConnMetadata, []byte) (*crypto.Permissions, error) {
			return nil, nil
		}}
	config.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	daemon.Serve(t, l, func(conn net.Conn) {
		_, channels, requests, err := crypto.NewServerConn(conn, config)
		if err != nil {
			return
		}
		go crypto.DiscardRequests(requests)
		for one := range channels {
			channel, asked, err := one.Accept()
			if err != nil {
				continue
			}
			go func() {
				for r := range asked {
					ok := r.Type == "subsystem" && strings.HasSuffix(string(r.Payload), "sftp")
					r.Reply(ok, nil)
					if ok {
						sftp.NewRequestServer(channel, sftp.Handlers{FileCmd: f, FileList: f}).Serve()
						return
					}
				}
			}()
		}
	})
	link, err := Open(t.Context(), (&net.Dialer{}).DialContext, Target{Address: l.Addr().String(), User: "keeper",
		Password: "x", HostKey: Pin(signer.PublicKey())})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { link.Close() })
	return link
}

// A device without a shell decides how much is read when its work folder is cleared: a listing without an end,
// folders within folders and a million files all end soon, in little memory, with an error that says so.
func TestADeviceCannotListWithoutAnEnd(t *testing.T) {
	many := func(n int, of func(i int) entry) []fs.FileInfo {
		out := make([]fs.FileInfo, n)
		for i := range out {
			out[i] = of(i)
		}
		return out
	}
	for name, c := range map[string]struct {
		list func(path string, offset int64) []fs.FileInfo
	}{
		"a listing without an end": {func(_ string, offset int64) []fs.FileInfo {
			return many(100, func(i int) entry { return entry{fmt.Sprintf("%064d", offset+int64(i)), false} })
		}},
		"long names without an end": {func(_ string, offset int64) []fs.FileInfo {
			return many(10, func(int) entry { return entry{strings.Repeat("n", 60_000), false} })
		}},
		"folders within folders": {func(_ string, offset int64) []fs.FileInfo {
			return many(max(0, 2-int(offset)), func(i int) entry { return entry{fmt.Sprint("f", i), true} })
		}},
		"many files": {func(_ string, offset int64) []fs.FileInfo {
			return many(max(0, min(100, 5000-int(offset))), func(i int) entry {
				return entry{fmt.Sprint("f", offset+int64(i)), false}
			})
		}},
	} {
		t.Run(name, func(t *testing.T) {
			f := &folders{list: c.list}
			link := serveFolders(t, f)
			var before, after runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&before)
			began := time.Now()
			err := link.Files(nil).RemoveAll(t.Context(), "/var/work/r1")
			runtime.ReadMemStats(&after)
			if err == nil || !errors.Is(err, links.ErrFlood) && !strings.Contains(err.Error(), "connection") {
				t.Errorf("it ends with %v", err)
			}
			if used := (after.TotalAlloc - before.TotalAlloc) >> 20; used > 64 {
				t.Errorf("it took %d MB", used)
			}
			if n := f.removed.Load(); n > maxEntries+maxDepth {
				t.Errorf("%d files were removed", n)
			}
			t.Logf("%v after %v, %d removed, %d MB allocated", err, time.Since(began).Round(time.Millisecond),
				f.removed.Load(), (after.TotalAlloc-before.TotalAlloc)>>20)
		})
	}
}
