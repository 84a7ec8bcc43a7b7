package api

import (
	"context"
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

func health(*Server) fiber.Handler {
	return func(c fiber.Ctx) error { return c.JSON(Health{"ok"}) }
}

func ready(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		if err := s.service.Ready(c.Context()); err != nil {
			return err
		}
		return c.JSON(Health{"ready"})
	}
}

// Health is the answer to those who only ask whether the service is there.
type Health struct {
	Status string `json:"status" required:"true"`
}

// Status says how the fleet stands.
type Status struct {
	Version    string         `json:"version" required:"true"`
	User       string         `json:"user" required:"true"`
	Slots      int            `json:"slots" required:"true"`
	Conditions map[string]int `json:"conditions" required:"true"`
	UnderWay   int            `json:"under_way" required:"true"`
	Waiting    int            `json:"waiting" required:"true" description:"for a signer"`
	Held       int            `json:"held" required:"true"`
}

func status(ctx context.Context, s *Server, who service.Bearer, _ struct{}) (Status, error) {
	out := Status{Version: Version, User: who.User, Conditions: map[string]int{}}
	counts, err := s.service.Conditions(ctx)
	if err != nil {
		return out, err
	}
	for condition, n := range counts {
		out.Conditions[string(condition)] = n
		out.Slots += n
	}
	all, err := s.service.Replacements(ctx, "", "")
	for _, r := range all {
		switch r.State {
		case "running":
			out.UnderWay++
		case "waiting":
			out.Waiting++
		case "held":
			out.Held++
		}
	}
	return out, err
}
