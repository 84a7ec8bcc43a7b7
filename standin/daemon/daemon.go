// Package daemon starts real servers for tests: each in the foreground, on an address and
// port of its own, and ended with the test.
package daemon

import (
	"bytes"
	"math/rand/v2"
	"net"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// given are the ports that FreePort has found in this process.
var given sync.Map

// Serve serves each connection of a listener until the test ends.
func Serve(t testing.TB, l net.Listener, serve func(net.Conn)) {
	t.Helper()
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				serve(conn)
			}()
		}
	}()
}

// FreePort finds a TCP port of an address on which nobody listens: one of those that the system
// gives to no connection by itself, so that nobody takes it meanwhile, and another one each time.
func FreePort(t testing.TB, address string) string {
	t.Helper()
	for range 1000 {
		port := strconv.Itoa(10000 + rand.IntN(22000))
		if _, taken := given.LoadOrStore(port, true); taken {
			continue
		}
		if l, err := net.Listen("tcp", net.JoinHostPort(address, port)); err == nil {
			l.Close()
			return port
		}
	}
	t.Fatalf("no port is free at %s", address)
	return ""
}

// Start starts a server and waits until it listens on a TCP address. It is ended with the
// test or by end, with its whole process group.
func Start(t testing.TB, listens, name string, args ...string) (end func()) {
	t.Helper()
	return start(t, func(string) bool {
		conn, err := net.Dial("tcp", listens)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, name, args...)
}

// StartSaying starts a server and waits until it says that it is ready, for one that listens on no TCP
// port.
func StartSaying(t testing.TB, ready, name string, args ...string) (end func()) {
	t.Helper()
	return start(t, func(log string) bool { return strings.Contains(log, ready) }, name, args...)
}

// said is what a server has said so far.
type said struct {
	lock sync.Mutex
	text bytes.Buffer
}

func (s *said) Write(p []byte) (int, error) {
	s.lock.Lock()
	defer s.lock.Unlock()
	return s.text.Write(p)
}

func (s *said) String() string {
	s.lock.Lock()
	defer s.lock.Unlock()
	return s.text.String()
}

func start(t testing.TB, ready func(log string) bool, name string, args ...string) (end func()) {
	t.Helper()
	cmd := exec.Command(name, args...)
	var log said
	cmd.Stdout, cmd.Stderr = &log, &log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	cmd.WaitDelay = 2 * time.Second
	if err := cmd.Start(); err != nil {
		t.Fatalf("starting %s: %v", name, err)
	}
	end = sync.OnceFunc(func() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		cmd.Wait()
	})
	t.Cleanup(func() {
		end()
		if t.Failed() {
			t.Logf("%s said:\n%s", name, log.String())
		}
	})
	for range 400 {
		if ready(log.String()) {
			return end
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Fatalf("%s is not ready:\n%s", name, log.String())
	return nil
}
