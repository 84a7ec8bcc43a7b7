package monitor

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"

	"freshseal/core/protocol"
	"freshseal/service/access"
	"freshseal/wire"
)

// Leaf reads which leaf an address of a site (HOST:PORT) serves for a name, by the reader of all readings, and
// returns its SHA-256. Nothing is kept.
func (s *Service) Leaf(ctx context.Context, site, address, name string) (string, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return "", err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return "", fmt.Errorf("%q is not HOST:PORT", address)
	}
	reading := s.reader.Read(ctx, wire.Target{Address: host, Port: n, Protocol: protocol.TLS, ServerName: name,
		Way: s.access.Way(site), Site: site, Gate: access.Readings{Service: s.access}})
	if leaf := reading.Leaf(); leaf != nil {
		return leaf.SHA256, nil
	}
	return "", cmp.Or(reading.Own, errors.New(reading.Why.What))
}
