package ssh

import (
	"context"
	"fmt"
	"io"
	"sync/atomic"

	"freshseal/device/links"

	"github.com/pkg/sftp"
)

// meter bounds how much a device sends while something is asked of it: it reads a listing to its end, which a device
// need not send.
type meter struct {
	io.Reader
	left *atomic.Int64 // bytes; below zero: not bounded
}

func (m meter) Read(b []byte) (int, error) {
	n, err := m.Reader.Read(b)
	if left := m.left.Load(); left >= 0 {
		if left -= int64(n); left < 0 {
			return 0, fmt.Errorf("%w: the device sends a listing without an end", links.ErrFlood)
		}
		m.left.Store(left)
	}
	return n, err
}

// openFiles opens the file channel over a meter.
func (l *Link) openFiles() (*sftp.Client, error) {
	channel, err := l.Subsystem(context.Background(), "sftp")
	if err != nil {
		return nil, err
	}
	l.left.Store(-1)
	client, err := sftp.NewClientPipe(meter{channel, &l.left}, channel)
	if err != nil {
		channel.Close()
	}
	return client, err
}

// budget bounds what the device sends until end is called. A device that sends more loses the connection for files.
func (l *Link) budget(bytes int64) (end func()) {
	l.left.Store(bytes)
	return func() { l.left.Store(-1) }
}
