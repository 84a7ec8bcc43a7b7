package procedure_test

import (
	"fmt"

	"freshseal/core/language/procedure"
)

// A procedure is checked without a device: every fault in one go, each with its place and what to write instead.
func ExampleParse() {
	p, faults := procedure.Parse([]byte(`
procedure: quay-gateway
title: Gateway with certificate files, over SSH
links: [ssh]
settings:
  reload: {kind: command, about: makes the gateway read its files again, default: gatectl reload}
traits: {key_types: [ecdsa-p256], key_made_by: service}
steps:
  install:
    - {file: /etc/gate/tls/key.pem, holds: new_key}
    - {file: /etc/gate/tls/chain.pem, holds: leaf_frist}
  activate:
    - {run: "{{reload}}"}
`))
	fmt.Println(p.Name)
	for _, f := range faults {
		fmt.Printf("%d:%d %s\n", f.Line, f.Column, f.What)
	}
	// Output:
	// quay-gateway
	// 11:46 nothing is called {{leaf_frist}} here
	// 13:7 the step “reload” may change the device and does not say how it is undone
}
