package standin_test

import (
	"crypto/rand"
	"crypto/tls"
	"crypto/x509/pkix"
	"fmt"
	"os"
	"time"

	"freshseal/standin"
)

// A simulated device starts in one line; its faults are switched on and off while it runs.
func ExampleStart() {
	dir, err := os.MkdirTemp("", "box")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	var itself *standin.Authority // nil: the certificate is self-signed
	certificate, key, err := itself.Issue(standin.Wanted{Subject: pkix.Name{CommonName: "Brinewell factory"},
		Ends: 24 * time.Hour}, rand.Reader, time.Now())
	if err != nil || standin.Lay(dir, certificate, key) != nil {
		fmt.Println(err)
		return
	}
	box, err := standin.Start(standin.Box{Dir: dir, Address: "127.0.0.1", User: "keeper", Password: "correct horse"})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer box.Close()
	conn, err := tls.Dial("tcp", box.TLSAddr, &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer conn.Close()
	fmt.Println(conn.ConnectionState().PeerCertificates[0].Subject)
	box.SetFaults(standin.Faults{KeepServing: true})
	fmt.Println("sessions over SSH:", box.Sessions())
	// Output:
	// CN=Brinewell factory
	// sessions over SSH: 0
}
