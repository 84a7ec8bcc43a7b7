package standin

import (
	"context"
	"crypto/ed25519"
	"crypto/subtle"
	"encoding/pem"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strconv"
	"strings"
	"syscall"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// Inside turns a path on the device into one below the box's root.
func Inside(p string) string {
	p = strings.TrimPrefix(path.Clean("/"+p), "/")
	if p == "" {
		return "."
	}
	return p
}

func openHostKey(file string, random io.Reader) (ssh.Signer, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		_, key, err := ed25519.GenerateKey(random)
		if err != nil {
			return nil, err
		}
		block, err := ssh.MarshalPrivateKey(key, "")
		if err != nil {
			return nil, err
		}
		text = pem.EncodeToMemory(block)
		if err := os.WriteFile(file, text, 0o600); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	return ssh.ParsePrivateKey(text)
}

func (r server) serveSSH(conn net.Conn) {
	check := func(meta ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if meta.User() == r.User && subtle.ConstantTimeCompare(password, []byte(r.Password)) == 1 {
			return nil, nil
		}
		return nil, errors.New("wrong user or password")
	}
	config := &ssh.ServerConfig{PasswordCallback: check}
	if r.Asks {
		config.PasswordCallback = nil
		config.KeyboardInteractiveCallback = func(meta ssh.ConnMetadata,
			ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			answers, err := ask(meta.User(), "This appliance is watched.", []string{"Terminal type: ", "Password: "},
				[]bool{true, false})
			if err != nil || len(answers) != 2 {
				return nil, errors.New("no answer")
			}
			return check(meta, []byte(answers[1]))
		}
	}
	if r.Old {
		old := ssh.InsecureAlgorithms()
		config.KeyExchanges, config.Ciphers = old.KeyExchanges, old.Ciphers
	}
	config.AddHostKey(r.hostKey)
	server, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	defer server.Close()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go ssh.DiscardRequests(requests)
	for offered := range channels {
		if offered.ChannelType() == "direct-tcpip" && r.Forward != nil {
			r.Work.Go(func() { r.forward(offered) })
			continue
		}
		if offered.ChannelType() != "session" {
			offered.Reject(ssh.UnknownChannelType, "this device has sessions only")
			continue
		}
		channel, asked, err := offered.Accept()
		if err != nil {
			return
		}
		r.Work.Go(func() { r.session(ctx, channel, asked) })
	}
}

// forward carries bytes to and from where the client wants to get (RFC 4254, 7.2).
func (r server) forward(offered ssh.NewChannel) {
	var to struct {
		Host   string
		Port   uint32
		Origin string
		From   uint32
	}
	if err := ssh.Unmarshal(offered.ExtraData(), &to); err != nil {
		offered.Reject(ssh.ConnectionFailed, "cannot be read")
		return
	}
	conn, err := r.Forward(net.JoinHostPort(to.Host, strconv.Itoa(int(to.Port))))
	if err != nil {
		offered.Reject(ssh.ConnectionFailed, err.Error())
		return
	}
	defer conn.Close()
	channel, requests, err := offered.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	go ssh.DiscardRequests(requests)
	go func() {
		io.Copy(conn, channel)
		conn.Close()
	}()
	io.Copy(channel, conn)
}

// session serves one channel: a command, or the file subsystem.
func (r server) session(ctx context.Context, channel ssh.Channel, asked <-chan *ssh.Request) {
	defer channel.Close()
	for request := range asked {
		var payload struct{ Text string }
		known := request.Type == "exec" || request.Type == "subsystem"
		if known {
			known = ssh.Unmarshal(request.Payload, &payload) == nil
		}
		made := makes[r.Kind]
		terminals := made.Programs
		run := terminals[payload.Text]
		known = known && !made.NoShell && (made.NETCONF == nil || payload.Text == "netconf") ||
			request.Type == "pty-req" && terminals != nil || request.Type == "shell" && run != nil
		if request.WantReply {
			request.Reply(known, nil)
		}
		switch {
		case !known, request.Type == "pty-req":
			continue
		case run != nil && request.Type != "subsystem":
			status := uint32(0)
			if run(r.Running, newTerminal(channel)) != nil {
				status = 1
			}
			channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{status}))
			return
		case request.Type == "exec":
			r.Watched(payload.Text, func() {
				status := unix(r).shell(ctx, payload.Text, channel, channel, channel.Stderr())
				channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(status)}))
			})
			return
		case payload.Text == "netconf" && made.NETCONF != nil:
			made.NETCONF(r.Running, channel)
			return
		case payload.Text == "sftp":
			server := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: files(r), FilePut: files(r),
				FileCmd: files(r), FileList: files(r)})
			server.Serve()
			server.Close()
			return
		}
	}
}

// files are the box's files over SFTP.
type files struct{ *Running }

// errDropped ends a connection in the middle of an upload.
var errDropped = errors.New("the connection is lost")

// Fileread opens a file for reading.
func (f files) Fileread(r *sftp.Request) (io.ReaderAt, error) { return f.Root.Open(Inside(r.Filepath)) }

// Filewrite opens a file for writing.
func (f files) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	if f.Faulty().DropUpload && f.dropped.CompareAndSwap(false, true) {
		f.Drop()
		return nil, errDropped
	}
	if inEtc := strings.HasPrefix(r.Filepath, "/etc/") || strings.HasPrefix(r.Filepath, "/srv/") ||
		strings.HasPrefix(r.Filepath, Stage); inEtc && f.Faulty().ReadOnly {
		return nil, &fs.PathError{Op: "open", Path: r.Filepath, Err: syscall.EROFS}
	} else if inEtc && f.Faulty().DiskFull {
		file, err := f.Root.OpenFile(Inside(r.Filepath), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
		return full{file}, err
	}
	return f.Root.OpenFile(Inside(r.Filepath), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
}

// Filecmd changes names and modes.
func (f files) Filecmd(r *sftp.Request) error {
	switch r.Method {
	case "Setstat":
		if r.AttrFlags().Permissions {
			return f.Root.Chmod(Inside(r.Filepath), r.Attributes().FileMode().Perm())
		}
		return nil
	case "Rename", "PosixRename":
		return f.Root.Rename(Inside(r.Filepath), Inside(r.Target))
	case "Remove":
		return f.Root.Remove(Inside(r.Filepath))
	case "Mkdir":
		return f.Root.Mkdir(Inside(r.Filepath), 0o700)
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename takes the place of an existing file.
func (f files) PosixRename(r *sftp.Request) error {
	err := errors.New("the connection is gone")
	f.Watched("rename to "+r.Target, func() { err = f.Root.Rename(Inside(r.Filepath), Inside(r.Target)) })
	return err
}

// Filelist answers stat; folders are not listed.
func (f files) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	info, err := f.Root.Stat(Inside(r.Filepath))
	if err != nil {
		return nil, err
	}
	return oneFile{info}, nil
}

type oneFile struct{ info fs.FileInfo }

// ListAt returns the one entry.
func (o oneFile) ListAt(to []fs.FileInfo, offset int64) (int, error) {
	if offset > 0 || len(to) == 0 {
		return 0, io.EOF
	}
	to[0] = o.info
	return 1, io.EOF
}
