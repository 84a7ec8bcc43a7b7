package wire_test

import (
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/http/httptest"
	"strconv"
	"time"

	"freshseal/wire"
)

// A reading says what an address serves, or why it could not be read.
func ExampleReader() {
	server := httptest.NewUnstartedServer(nil)
	server.Config.ErrorLog = log.New(io.Discard, "", 0)
	server.StartTLS()
	defer server.Close()
	host, port, _ := net.SplitHostPort(server.Listener.Addr().String())
	number, _ := strconv.Atoi(port)
	r := wire.Reader{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Limit: 10 * time.Second}

	seen := r.Read(context.Background(), wire.Target{Address: host, Port: number, ServerName: "gate.tidewrack.example"})
	fmt.Println(seen.Version, seen.Leaf().Facts().Names)

	server.Close()
	seen = r.Read(context.Background(), wire.Target{Address: host, Port: number})
	fmt.Println(seen.Why.Code)
	// Output:
	// TLS 1.3 [example.com *.example.com 127.0.0.1 ::1]
	// refused
}
