// Old boxes serve RSA keys under 1024 bits; a reading must still tell of them.
//go:debug rsa1024min=0

// Command freshseal replaces the certificates of a fleet of devices, and proves
// the result on the wire.
package main

import (
	"os"
	"time"

	"freshseal/cli"
	"freshseal/cmd/freshseal/host"
)

func main() { os.Exit(cli.Main(os.Args[1:], time.Now, host.Commands)) }
