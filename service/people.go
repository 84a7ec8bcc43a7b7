package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"freshseal/store"

	"golang.org/x/crypto/argon2"
)

// How long a sign-in holds.
const (
	consoleSession = 12 * time.Hour
	clientToken    = 90 * 24 * time.Hour
)

// Bearer is who was let in, and the secret that proves it. The secret is
// given once and kept nowhere.
type Bearer struct {
	User   string
	Secret string
	EndsAt time.Time
}

// SignIn checks a name and a password and opens a session for the console, or
// with client a token for a client.
func (s *Service) SignIn(ctx context.Context, name, password string, client bool) (Bearer, error) {
	denied := &Error{Denied, "you are not signed in", "the name or the password is wrong", "try again; the first password stands in the file " + firstSignIn + " of the service's data folder"}
	u, err := s.store.User(ctx, name)
	hash := u.Password
	if errors.Is(err, store.ErrNotFound) {
		hash = nobody() // as slow as for somebody, so that names cannot be guessed
	} else if err != nil {
		return Bearer{}, err
	}
	if !passwordFits(hash, password) || err != nil {
		return Bearer{}, denied
	}
	return s.openSession(ctx, name, client)
}

// ClientToken opens a token without a password; the demo uses it on its own fleet.
func (s *Service) ClientToken(ctx context.Context, name string) (Bearer, error) {
	return s.openSession(ctx, name, true)
}

func (s *Service) openSession(ctx context.Context, name string, client bool) (Bearer, error) {
	secret := randomText(32)
	session := store.Session{SHA256: digest(secret), User: name, Kind: "console", BeganAt: s.moment(), EndsAt: store.At(s.now().Add(consoleSession))}
	if client {
		session.Kind, session.EndsAt = "client", store.At(s.now().Add(clientToken))
	}
	return Bearer{name, secret, session.EndsAt.Time}, s.store.AddSession(ctx, session)
}

// Admit finds out who bears a secret.
func (s *Service) Admit(ctx context.Context, secret string) (Bearer, error) {
	session, err := s.store.Session(ctx, digest(secret), s.moment())
	if errors.Is(err, store.ErrNotFound) {
		return Bearer{}, &Error{Denied, "you are not signed in", "", "sign in: freshseal login URL"}
	}
	return Bearer{User: session.User, EndsAt: session.EndsAt.Time}, err
}

// SignOut ends the session of a secret.
func (s *Service) SignOut(ctx context.Context, secret string) error {
	err := s.store.EndSession(ctx, digest(secret))
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

// AddUser lets somebody sign in.
func (s *Service) AddUser(ctx context.Context, name, password string) error {
	if !deviceName.MatchString(name) || len(password) < 10 {
		return invalid("the user cannot be added", "the name is none, or the password has fewer than 10 characters", nameRule+" for the name, and a longer password")
	}
	err := s.store.AddUser(ctx, store.User{Name: name, Password: hashPassword(password), AddedAt: s.moment()})
	if errors.Is(err, store.ErrTaken) {
		return &Error{Conflict, "the user cannot be added", name + " is there already", "choose another name"}
	}
	return err
}

// firstUser makes the first user of an empty database and writes the password
// into a file that only the owner can read.
func (s *Service) firstUser(ctx context.Context) error {
	n, err := s.store.CountUsers(ctx)
	if err != nil || n > 0 {
		return err
	}
	password := randomText(12)
	file := filepath.Join(s.options.Dir, firstSignIn)
	text := fmt.Sprintf("user: admin\npassword: %s\n", password)
	// The file first: a password that nobody knows would be of no use.
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return fmt.Errorf("writing the first password: %w", err)
	}
	return s.AddUser(ctx, "admin", password)
}

func randomText(bytes int) string {
	secret := make([]byte, bytes)
	rand.Read(secret)
	return base64.RawURLEncoding.EncodeToString(secret)
}

func digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Cost of a password (RFC 9106, section 4, second recommendation).
const (
	argonTime, argonMemory, argonThreads = 3, 64 << 10, 4
	argonLength                          = 32
)

// One password is tried at a time: each try takes 64 MiB.
var argonLock sync.Mutex

var nobody = sync.OnceValue(func() string { return hashPassword(randomText(12)) })

// hashPassword writes a password as a PHC string.
func hashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	sum := argon(password, salt)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(sum))
}

func argon(password string, salt []byte) []byte {
	argonLock.Lock()
	defer argonLock.Unlock()
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonLength)
}

func passwordFits(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(want, argon(password, salt)) == 1
}
