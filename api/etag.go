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
// Its first half is of what people change (the revision), its second of all that is
// shown: a reading makes nobody's change stale, and still is news to who looks.
func etag(out any, text []byte) (string, error) {
	revision := text
	if own, ok := out.(interface{ Revision() any }); ok {
		var err error
		if revision, err = json.Marshal(own.Revision()); err != nil {
			return "", err
		}
	}
	of, all := sha256.Sum256(revision), sha256.Sum256(text)
	return `"` + hex.EncodeToString(of[:12]) + "." + hex.EncodeToString(all[:12]) + `"`, nil
}

// sameRevision says that an If-Match names the revision of a tag.
func sameRevision(header, tag string) bool {
	revision, _, _ := strings.Cut(tag, ".")
	for each := range strings.SplitSeq(header, ",") {
		if each = strings.TrimSpace(each); each == "*" || strings.HasPrefix(each, revision+".") {
			return true
		}
	}
	return false
}

// answer sends JSON. What is looked at carries its ETag; who has that state
// already is told so without it being sent again.
func answer(c fiber.Ctx, status int, out any) error {
	text, err := json.Marshal(out)
	if err != nil {
		return err
	}
	if status == fiber.StatusOK {
		tag, err := etag(out, text)
		if err != nil {
			return err
		}
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
		tag, err := etag(out, text)
		if err != nil {
			return err
		}
		if !sameRevision(wanted, tag) {
			return &service.Error{Kind: service.Stale, What: "nothing was changed", Why: "somebody else changed it since you looked", Next: "look again, then decide anew"}
		}
		return c.Next()
	}
}
