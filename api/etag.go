package api

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"strings"

	"freshseal/service"

	"github.com/gofiber/fiber/v3"
)

// etag names a state of something by what the API shows of it (RFC 9110, 8.8.3).
func etag(shown []byte) string {
	sum := sha256.Sum256(shown)
	return `"` + hex.EncodeToString(sum[:12]) + `"`
}

// answer sends JSON. What is looked at carries its ETag; who has that state
// already is told so without it being sent again.
func answer(c fiber.Ctx, status int, out any) error {
	text, err := json.Marshal(out)
	if err != nil {
		return err
	}
	if status == fiber.StatusOK {
		tag := etag(text)
		c.Set(fiber.HeaderETag, tag)
		if c.Method() == fiber.MethodGet && matches(c.Get(fiber.HeaderIfNoneMatch), tag) {
			return c.SendStatus(fiber.StatusNotModified)
		}
	}
	c.Set(fiber.HeaderContentType, fiber.MIMEApplicationJSONCharsetUTF8)
	return c.Status(status).Send(text)
}

func matches(header, tag string) bool {
	for each := range strings.SplitSeq(header, ",") {
		if each = strings.TrimSpace(each); each == tag || each == "*" {
			return true
		}
	}
	return false
}

// unchanged refuses a change whose If-Match names another state than the one
// that is shown now: somebody changed it in between. Guarded changes go one
// after the other, so that nobody slips in between the look and the change.
func (s *Server) unchanged(show func(*Server, fiber.Ctx) (any, error)) fiber.Handler {
	return func(c fiber.Ctx) error {
		wanted := c.Get(fiber.HeaderIfMatch)
		if wanted == "" {
			return c.Next()
		}
		s.changes.Lock()
		defer s.changes.Unlock()
		out, err := show(s, c)
		if err != nil {
			return err
		}
		text, err := json.Marshal(out)
		if err != nil {
			return err
		}
		if !matches(wanted, etag(text)) {
			return &service.Error{Kind: service.Stale, What: "nothing was changed", Why: "somebody else changed it since you looked", Next: "look again, then decide anew"}
		}
		return c.Next()
	}
}
