package ssh

import (
	"context"
	"fmt"
	"io"

	crypto "golang.org/x/crypto/ssh"
)

// subsystem is a channel to a subsystem of the device.
type subsystem struct {
	io.Reader
	io.WriteCloser
	session *crypto.Session
}

func (s *subsystem) Close() error { return s.session.Close() }

// Subsystem opens a subsystem of the device (RFC 4254, 6.5), such as netconf.
func (l *Link) Subsystem(ctx context.Context, name string) (io.ReadWriteCloser, error) {
	session, err := l.client.NewSession()
	if err != nil {
		return nil, l.lost(ctx, err)
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := session.RequestSubsystem(name); err != nil {
		session.Close()
		return nil, fmt.Errorf("the device has no subsystem %s: %w", name, err)
	}
	return &subsystem{out, in, session}, nil
}
