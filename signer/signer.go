// Package signer holds those who sign requests. All have one interface: a
// request is submitted, and its answer is collected, at once or later.
//
// There are two to whom something goes: Bench, an authority of our own for labs and the demo, signs at
// once; Desk stands for a person, to whom requests go as parcels (see Parcel)
// and whose answers come back as piles. A third name, device, stands for devices that
// make and sign their certificates themselves.
package signer

import (
	"context"
	"errors"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
)

// The names of the signers that are always there.
const (
	BenchName  = "bench"
	DeskName   = "desk"
	DeviceName = "device"
	OwnKeyName = "own-key" // the certificate is signed with its own key
)

// A Signer signs requests.
type Signer interface {
	// Submit hands a request over. It may be called again for the same request.
	Submit(ctx context.Context, e Errand) error
	// Collect returns what was signed, the leaf first, then its intermediates.
	// It returns ErrPending while there is no answer.
	Collect(ctx context.Context, e Errand) ([]*cert.Certificate, error)
	// Terms are what the signer accepts.
	Terms() Terms
}

// ErrPending means that a request is not signed yet.
var ErrPending = errors.New("the request is not signed yet")

// Terms are what a signer accepts.
type Terms struct {
	Request request.Terms
	MaxDays int // the longest certificate that it issues; 0: not known
}

// Desk is a person who signs. Submit only says that the request may be packed;
// answers come as piles, so that Collect never has one.
type Desk struct{ Accepts Terms }

// Submit accepts every request: it goes out with the next parcel.
func (Desk) Submit(context.Context, Errand) error { return nil }

// Collect returns ErrPending.
func (Desk) Collect(context.Context, Errand) ([]*cert.Certificate, error) { return nil, ErrPending }

// Terms returns what was said of the person.
func (d Desk) Terms() Terms { return d.Accepts }
