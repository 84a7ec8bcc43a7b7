package api

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"freshseal/service"

	"github.com/gofiber/fiber/v3"
)

const cookieName = "freshseal"

type bearerKey struct{}

// admit lets those in who bear a token or a session cookie and whose role is
// enough, and writes every change that is asked for into the ledger before it
// is done. A cookie is sent by the browser whoever asks, so a change must come
// from our own pages.
func (s *Server) admit(r route) fiber.Handler {
	return func(c fiber.Ctx) error {
		secret, isToken := strings.CutPrefix(c.Get(fiber.HeaderAuthorization), "Bearer ")
		if !isToken {
			secret = c.Cookies(cookieName)
			if r.method != fiber.MethodGet && !sameOrigin(c) {
				return &service.Error{Kind: service.Denied, What: "this change does not come from the console's own pages", Next: "use the console, or a token"}
			}
		}
		who, err := s.service.Admit(c.Context(), secret)
		if err != nil {
			return err
		}
		if needed := r.needs(); !who.Role.Reaches(needed) {
			return &service.Error{Kind: service.Refused, What: "you may not " + r.summary, Why: fmt.Sprintf("%s is %s, and this needs the role %s", who.User, who.Role, needed), Next: "ask an admin"}
		}
		who.Secret = strings.Clone(secret)
		c.Locals(bearerKey{}, who)
		if r.method == fiber.MethodGet || r.quiet {
			return c.Next()
		}
		return s.recorded(c, who, r)
	}
}

// recorded does a change between two looks at the ledger: what was asked stands
// there before it is done, and where it was refused, that too.
func (s *Server) recorded(c fiber.Ctx, who service.Bearer, r route) error {
	about := strings.Clone(strings.TrimPrefix(c.Path(), v1))
	if err := s.service.Record(c.Context(), who.User, r.summary, about); err != nil {
		return err
	}
	err := c.Next()
	if err != nil {
		return errors.Join(err, s.service.Record(c.Context(), who.User, r.summary+": refused", about))
	}
	return nil
}

func sameOrigin(c fiber.Ctx) bool {
	origin := c.Get(fiber.HeaderOrigin)
	return origin == "https://"+c.Host() && c.Get("Sec-Fetch-Site", "same-origin") == "same-origin"
}

func bearer(c fiber.Ctx) service.Bearer {
	who, _ := c.Locals(bearerKey{}).(service.Bearer)
	return who
}

// SignIn is what is given to sign in.
type SignIn struct {
	User     string `json:"user" required:"true"`
	Password string `json:"password" required:"true"`
	Client   bool   `json:"client,omitempty" description:"true gives a token in the answer; else a session cookie is set"`
}

// Session says who is signed in.
type Session struct {
	User   string       `json:"user" required:"true"`
	Role   service.Role `json:"role" required:"true" enum:"viewer,operator,admin"`
	EndsAt time.Time    `json:"ends_at" required:"true"`
	Token  string       `json:"token,omitempty" description:"given once, to a client"`
}

func signIn(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		var in SignIn
		if err := decode(c, &in); err != nil {
			return err
		}
		who, err := s.service.SignIn(c.Context(), in.User, in.Password, c.IP(), in.Client)
		if err != nil {
			return err
		}
		out := Session{User: who.User, Role: who.Role, EndsAt: who.EndsAt}
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
			if err := s.service.SignOut(c.Context(), bearer(c), everywhere); err != nil {
				return err
			}
			setCookie(c, "", time.Unix(0, 0))
			return c.SendStatus(fiber.StatusNoContent)
		}
	}
}

func session(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		who := bearer(c)
		return c.JSON(Session{User: who.User, Role: who.Role, EndsAt: who.EndsAt})
	}
}

func setCookie(c fiber.Ctx, secret string, ends time.Time) {
	c.Cookie(&fiber.Cookie{Name: cookieName, Value: secret, Path: "/", Expires: ends, Secure: true, HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode})
}
