package api

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/service/audit"
	"freshseal/service/people"
	"freshseal/service/problem"

	"github.com/gofiber/fiber/v3"
)

// cookieName has the prefix with which browsers see that nobody but this host, over
// TLS, has set the cookie (RFC 6265bis, 4.1.3.2).
const cookieName = "__Host-freshseal"

type bearerKey struct{}

// admit lets those in who bear a token or a session cookie and whose role is
// enough, and writes every change that is asked for into the audit log before it
// is done. A cookie is sent by the browser whoever asks, so a change must come
// from our own pages.
func (s *Server) admit(r route) fiber.Handler {
	return func(c fiber.Ctx) error {
		secret, isToken := strings.CutPrefix(c.Get(fiber.HeaderAuthorization), "Bearer ")
		if !isToken {
			secret = c.Cookies(cookieName)
			if r.method != fiber.MethodGet && !sameOrigin(c) {
				return &problem.Error{Kind: problem.Denied, What: "this change does not come from the console's " +
					"own pages", Next: "use the console, or a token"}
			}
		}
		from := strings.Clone(c.IP())
		who, err := s.service.People.Admit(c.Context(), secret, from)
		if err != nil {
			return err
		}
		if who.MustSetUp && !r.early {
			return problem.New(problem.Refused, "set up a second factor first", "your role needs one, and you have "+
				"none", "set up an authenticator, then go on", next.SetUpFactor.On(""))
		}
		if needed := r.needs(); !who.Role.Reaches(needed) {
			return &problem.Error{Kind: problem.Refused, What: "you may not " + r.summary,
				Why:  fmt.Sprintf("%s is %s, and this needs the role %s", who.User, who.Role, needed),
				Next: "ask an admin"}
		}
		if r.final {
			if err := s.service.People.Sure(c.Context(), who); err != nil {
				return err
			}
		}
		who.Secret = strings.Clone(secret)
		s.service.People.Saw(from)
		c.Locals(bearerKey{}, who)
		c.SetContext(people.As(c.Context(), who))
		s.service.Monitor.SomebodyWaits()
		if r.method == fiber.MethodGet || r.quiet {
			return c.Next()
		}
		return s.recorded(c, who, r)
	}
}

// recorded does a change between two looks at the audit log: what was asked stands
// there before it is done; what it changed, or that it was refused, after.
func (s *Server) recorded(c fiber.Ctx, who people.Bearer, r route) error {
	about := strings.Clone(strings.TrimPrefix(c.Path(), v1))
	if err := s.service.People.Record(c.Context(), who.User, r.summary, about); err != nil {
		return err
	}
	ctx, deeds := audit.Collect(c.Context())
	c.SetContext(ctx)
	err := c.Next()
	after := context.WithoutCancel(ctx)
	if err != nil {
		return errors.Join(err, s.service.People.Record(after, who.User, r.summary+": refused", about))
	}
	if changed := deeds.String(); changed != "" {
		return s.service.People.Record(after, who.User, r.summary+": changed", about+" "+changed)
	}
	return nil
}

func sameOrigin(c fiber.Ctx) bool {
	origin := c.Get(fiber.HeaderOrigin)
	return origin == "https://"+c.Host() && c.Get("Sec-Fetch-Site", "same-origin") == "same-origin"
}

func bearer(c fiber.Ctx) people.Bearer {
	who, _ := c.Locals(bearerKey{}).(people.Bearer)
	return who
}

func signIn(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		if c.Get(fiber.HeaderOrigin) != "" && !sameOrigin(c) {
			return problem.New(problem.Denied, "you are not signed in", "this sign-in does not come from the "+
				"console's own pages", "open the console, and sign in there")
		}
		var in contract.SignIn
		if err := decode(c, &in, signInBody); err != nil {
			return err
		}
		who, err := s.service.People.SignIn(c.Context(), in, strings.Clone(c.IP()))
		if err != nil {
			return err
		}
		out := showSession(who)
		if in.Client {
			out.Token = who.Secret
		} else {
			setCookie(c, who.Secret, who.EndsAt)
		}
		return c.Status(fiber.StatusCreated).JSON(out)
	}
}

func signOut(everywhere bool) func(*Server) fiber.Handler {
	return func(s *Server) fiber.Handler {
		return func(c fiber.Ctx) error {
			if err := s.service.People.SignOut(c.Context(), bearer(c), everywhere); err != nil {
				return err
			}
			setCookie(c, "", time.Unix(0, 0))
			return c.SendStatus(fiber.StatusNoContent)
		}
	}
}

func session(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		return c.JSON(showSession(bearer(c)))
	}
}

func showSession(who people.Bearer) contract.Session {
	return contract.Session{User: who.User, Role: who.Role, EndsAt: who.EndsAt, Factor: who.Factor,
		MustSetUp: who.MustSetUp}
}

func setCookie(c fiber.Ctx, secret string, ends time.Time) {
	c.Cookie(&fiber.Cookie{Name: cookieName, Value: secret, Path: "/", Expires: ends, Secure: true, HTTPOnly: true,
		SameSite: fiber.CookieSameSiteStrictMode})
}
