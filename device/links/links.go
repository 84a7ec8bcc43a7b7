// Package links is what all links to devices have in common: how a connection is opened,
// and the reasons for which one ends that others decide by.
package links

import (
	"context"
	"errors"
	"net"
)

// Dial opens a connection; the service passes in the one that knows the way.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// ErrSignIn means that the device did not take the user's password or key.
var ErrSignIn = errors.New("the device refuses the user's password or key")

// ErrLost means that the connection ended before an answer came.
var ErrLost = errors.New("the connection to the device was lost")

// ErrTimeLimit means that a step did not end within its limit.
var ErrTimeLimit = errors.New("the time limit has passed")

// ErrFlood means that the device sent more than is taken.
var ErrFlood = errors.New("too much output")
