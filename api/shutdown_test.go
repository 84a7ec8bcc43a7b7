package api

import (
	"log/slog"
	"net"
	"testing"
	"time"

	"freshseal/service"
)

// A signal may come while the service is still about to accept; the server ends at whatever
// moment it is told to.
func TestAServerEndsAtWhateverMomentItIsTold(t *testing.T) {
	for _, wait := range []time.Duration{-1, 0, 50 * time.Microsecond, time.Millisecond, 50 * time.Millisecond} {
		for range 20 {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			server, err := New(&service.Service{}, slog.New(slog.DiscardHandler))
			if err != nil {
				t.Fatal(err)
			}
			ended := make(chan error, 1)
			serve := func() { ended <- server.Serve(l) }
			if wait >= 0 {
				go serve()
				time.Sleep(wait)
			}
			if err := server.Shutdown(t.Context()); err != nil {
				t.Fatalf("told %v after the start: %v", wait, err)
			}
			if wait < 0 {
				go serve()
			}
			select {
			case err := <-ended:
				if err != nil {
					t.Fatalf("told %v after the start, it ended with %v", wait, err)
				}
			case <-time.After(10 * time.Second):
				t.Fatalf("told %v after the start, the server goes on", wait)
			}
		}
	}
}
