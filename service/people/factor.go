package people

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base32"
	"encoding/base64"
	"errors"
	"fmt"
	"image/png"
	"slices"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/service/problem"
	"freshseal/store"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"
)

// Codes are those of RFC 6238 as all authenticators make them: six digits, a step of 30 seconds, HMAC-SHA-1.
const (
	codeStep      = 30 // seconds
	codeSkew      = 1  // steps by which the clock of an authenticator may differ
	secretBytes   = 20 // RFC 4226, section 4, R6
	recoveryCodes = 10
)

// What a sign-in says of its second factor.
const (
	byCode         = "code"
	byRecoveryCode = "recovery code"
)

// Factors are the second factors of users.
type Factors struct{ *Service }

// box seals the secrets of authenticators.
type box interface {
	Seal(purpose string, secret []byte) []byte
	Open(purpose string, sealed []byte) ([]byte, error)
}

// factorPurpose is what the secret of a user's authenticator is sealed for.
func factorPurpose(user string) string { return "factor/" + user }

func codeNeeded(cannot string) error {
	return problem.New(problem.NeedsCode, cannot, "your account has a second factor", "give the code of your "+
		"authenticator, or one of your recovery codes", next.Give.On("code"))
}

// stepOf returns the time step whose code this is: now, or codeSkew steps around it; 0: of none.
func stepOf(secret []byte, code string, now time.Time) int64 {
	text := base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(secret)
	found := int64(0)
	for skew := int64(-codeSkew); skew <= codeSkew; skew++ {
		step := now.Unix()/codeStep + skew
		want, err := hotp.GenerateCodeCustom(text, uint64(step), hotp.ValidateOpts{Digits: otp.DigitsSix,
			Algorithm: otp.AlgorithmSHA1})
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			found = step
		}
	}
	return found
}

// plainCode returns a code as it is compared: people group digits and letters.
func plainCode(typed string) string {
	return strings.ToUpper(strings.NewReplacer(" ", "", "-", "").Replace(strings.TrimSpace(typed)))
}

// tryCode checks a code of a user's authenticator or a recovery code and uses it up, and counts the attempt before it
// does: whoever tries codes knows the password, so they are counted for the user, wherever they come from.
func (s *Service) tryCode(ctx context.Context, cannot, user, typed, from string) (factor string, err error) {
	if wait := s.codes.begin(s.now(), user, ""); wait > 0 {
		return "", problem.New(problem.TooMany, cannot, "there were too many wrong codes",
			fmt.Sprintf("wait %s, then try again", wait.Round(time.Second)))
	}
	f, err := s.store.Factors.Get(ctx, user)
	if err != nil {
		return "", err
	}
	code := plainCode(typed)
	if len(code) == otp.DigitsSix.Length() {
		secret, err := s.box.Open(factorPurpose(user), f.Secret)
		if err != nil {
			return "", fmt.Errorf("opening the secret of %s's authenticator: %w", user, err)
		}
		factor, err = byCode, store.ErrStale
		if step := stepOf(secret, code, s.now()); step > f.Step {
			err = s.store.Factors.Use(ctx, f, step)
		}
		if err == nil || !errors.Is(err, store.ErrStale) {
			s.codes.succeeded(user, "")
			return factor, err
		}
	} else if err := s.store.Factors.UseRecovery(ctx, user, digest(code)); err == nil ||
		!errors.Is(err, store.ErrStale) {
		s.codes.succeeded(user, "")
		return byRecoveryCode, err
	}
	if err := s.Record(ctx, "freshseal", "wrong code", user+" from "+from); err != nil {
		return "", err
	}
	return "", problem.New(problem.Denied, cannot, "the code is wrong, or was used before",
		"wait for the next code, and see that the clocks of the authenticator and of the service are right")
}

// byHand refuses programs: how a user signs in is changed by the user alone.
func byHand(who Bearer, cannot string) error {
	if who.Token {
		return problem.New(problem.Conflict, cannot, "a token cannot change how its user signs in", "sign in")
	}
	return nil
}

func (s *Service) hasFactor(ctx context.Context, user string) (bool, error) {
	f, err := s.store.Factors.Get(ctx, user)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	return len(f.Secret) > 0, err
}

// SetUp makes the secret of a new authenticator. What the user has stays in use until a code of the new one is
// given.
func (s Factors) SetUp(ctx context.Context, who Bearer) (contract.NewFactor, error) {
	if err := byHand(who, "no authenticator is set up"); err != nil {
		return contract.NewFactor{}, err
	}
	secret := make([]byte, secretBytes)
	rand.Read(secret)
	if err := s.store.Factors.SetPending(ctx, who.User, s.box.Seal(factorPurpose(who.User), secret),
		s.moment()); err != nil {
		return contract.NewFactor{}, err
	}
	text := base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(secret)
	uri := "otpauth://totp/Fresh%20Seal:" + who.User + "?secret=" + text + "&issuer=Fresh%20Seal"
	key, err := otp.NewKeyFromURL(uri)
	if err != nil {
		return contract.NewFactor{}, err
	}
	code, err := key.Image(240, 240)
	if err != nil {
		return contract.NewFactor{}, err
	}
	var picture bytes.Buffer
	if err := png.Encode(&picture, code); err != nil {
		return contract.NewFactor{}, err
	}
	return contract.NewFactor{Secret: text, URI: uri,
		Image: "data:image/png;base64," + base64.StdEncoding.EncodeToString(picture.Bytes())}, nil
}

// Take puts the authenticator into use whose code is given, and returns its recovery codes. All other sessions of
// the user end.
func (s Factors) Take(ctx context.Context, who Bearer, typed string) (contract.RecoveryCodes, error) {
	const cannot = "the authenticator is not in use"
	if err := byHand(who, cannot); err != nil {
		return contract.RecoveryCodes{}, err
	}
	f, err := s.store.Factors.Get(ctx, who.User)
	if errors.Is(err, store.ErrNotFound) || err == nil && len(f.Pending) == 0 {
		return contract.RecoveryCodes{}, problem.New(problem.Conflict, cannot, "none is being set up",
			"start to set one up")
	} else if err != nil {
		return contract.RecoveryCodes{}, err
	}
	secret, err := s.box.Open(factorPurpose(who.User), f.Pending)
	if err != nil {
		return contract.RecoveryCodes{}, fmt.Errorf("opening the secret of %s's authenticator: %w", who.User, err)
	}
	step := stepOf(secret, plainCode(typed), s.now())
	if step == 0 {
		return contract.RecoveryCodes{}, problem.Reject(cannot, "the code is wrong", "give the code that the "+
			"authenticator shows now, and see that its clock and that of the service are right", next.Give.On("code"))
	}
	codes, digests := newRecoveryCodes()
	err = s.store.Factors.TakePending(ctx, f, step, digests, digest(who.Secret), s.moment())
	if errors.Is(err, store.ErrStale) {
		return contract.RecoveryCodes{}, problem.New(problem.Conflict, cannot, "another one was set up since",
			"start to set one up")
	}
	if err == nil {
		err = s.store.Sessions.Confirm(ctx, digest(who.Secret), byCode, s.moment())
	}
	return contract.RecoveryCodes{Codes: codes}, err
}

// RenewRecoveryCodes makes new recovery codes; the old ones are of no use any more.
func (s Factors) RenewRecoveryCodes(ctx context.Context, who Bearer) (contract.RecoveryCodes, error) {
	if err := byHand(who, "there are no new recovery codes"); err != nil {
		return contract.RecoveryCodes{}, err
	}
	codes, digests := newRecoveryCodes()
	err := s.store.Factors.SetRecovery(ctx, who.User, digests)
	if errors.Is(err, store.ErrNotFound) {
		return contract.RecoveryCodes{}, problem.New(problem.Conflict, "there are no recovery codes", "you have no "+
			"authenticator", "set one up first")
	}
	return contract.RecoveryCodes{Codes: codes}, err
}

// newRecoveryCodes returns codes of 80 random bits, as people read them, with their digests.
func newRecoveryCodes() (codes, digests []string) {
	for range recoveryCodes {
		raw := make([]byte, 10)
		rand.Read(raw)
		text := base32.StdEncoding.EncodeToString(raw) // 16 characters
		codes = append(codes, strings.Join([]string{text[:4], text[4:8], text[8:12], text[12:]}, "-"))
		digests = append(digests, digest(text))
	}
	return codes, digests
}

// Remove removes the second factor of the user who asks; all other sessions end.
func (s Factors) Remove(ctx context.Context, who Bearer) error {
	if err := byHand(who, "the second factor was not removed"); err != nil {
		return err
	}
	rules, err := s.SignInPolicy(ctx)
	if err != nil {
		return err
	}
	u, err := s.store.Users.Get(ctx, who.User)
	if err != nil {
		return err
	}
	if slices.Contains(rules.FactorFor, contract.Role(u.Role)) {
		return problem.New(problem.Conflict, "the second factor was not removed", "your role needs one",
			"set up another authenticator in its place")
	}
	return problem.Missing(s.store.Factors.Remove(ctx, who.User, digest(who.Secret)), next.SetUpFactor,
		"you have no second factor")
}

// Reset removes the second factor of a user who lost it; all sessions of that user end.
func (s Factors) Reset(ctx context.Context, name string) error {
	return problem.Missing(s.store.Factors.Remove(ctx, name, ""), next.ListUsers, "%s has no second factor", name)
}
