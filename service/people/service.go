// Package people holds the use cases for those who use the service: users,
// sign-in, API tokens and the audit log of what they did.
package people

import (
	"log/slog"
	"sync"
	"time"

	"freshseal/contract"
	"freshseal/store"
)

// firstSignIn is the file with the first password.
const firstSignIn = "first-sign-in.txt"

// firstName is the user that an empty database gets.
const firstName = "admin"

// Service knows who may do what. Its methods are safe for concurrent use.
type Service struct {
	Tokens   Tokens
	Factors  Factors
	Sessions Sessions
	Log      Log

	store storage
	box   box
	dir   string // where the first password is written
	log   *slog.Logger
	clock func() time.Time
	tries tries // of passwords
	codes tries // of second factors
	queue queue
	known known

	used    used
	strange strange
	storing sync.WaitGroup

	rules  sync.Mutex             // guards policy
	policy *contract.SignInPolicy // nil: not read yet
}

// New returns the service; see FirstUser for what an empty database needs.
func New(db *store.Store, box box, dir string, log *slog.Logger, clock func() time.Time) *Service {
	return (&Service{store: storageOf(db), box: box, dir: dir, log: log, clock: clock}).whole()
}

// whole gives the service its parts.
func (s *Service) whole() *Service {
	s.Tokens, s.Factors, s.Sessions, s.Log = Tokens{s}, Factors{s}, Sessions{s}, Log{s}
	return s
}

func (s *Service) now() time.Time { return s.clock().UTC() }

func (s *Service) moment() store.Moment { return store.At(s.clock()) }
