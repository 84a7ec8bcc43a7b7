package api

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"freshseal/service/problem"

	"github.com/gofiber/fiber/v3"
)

// etag names a state of something by what the API shows of it (RFC 9110, 8.8.3).
// Its first half is the revision, which people's changes count up, its second is of
// all that is shown: a reading makes nobody's change stale, and still is news to who
// looks. What has no revision is named by all of it.
func etag(out any, text []byte) string {
	sum := sha256.Sum256(text)
	all := hex.EncodeToString(sum[:12])
	if own, ok := out.(interface{ Revised() problem.Revision }); ok {
		return fmt.Sprintf(`"%d.%s"`, own.Revised(), all)
	}
	return `"` + all + "." + all + `"`
}

// guarded is what every change of something must carry that several people may
// change at the same time: which revision was looked at.
type guarded struct {
	IfMatch string `header:"If-Match" json:"-" required:"true" description:"the ETag of what was looked at, or its revision in quotes; * changes it whatever it is"`
}

// revision returns the revision that a change is for. Without one it is refused
// (RFC 6585, section 3): it might undo what somebody else did.
func (g guarded) revision() (problem.Revision, error) {
	tag := strings.TrimSpace(g.IfMatch)
	switch tag {
	case "":
		return 0, problem.New(problem.Blind, "nothing was changed", "the revision to change is not given",
			"look at it first, and send its ETag or revision as If-Match")
	case "*":
		return problem.Any, nil
	}
	number, _, _ := strings.Cut(strings.Trim(tag, `"`), ".")
	n, err := strconv.ParseInt(number, 10, 64)
	if err != nil || n < 0 || strings.Contains(tag, ",") {
		return 0, problem.New(problem.Stale, "nothing was changed",
			fmt.Sprintf("If-Match: %s names no revision of it", tag), "look at it first, and send its ETag or revision")
	}
	return problem.Revision(n), nil
}

// sameRevision reports whether an If-Match names the revision of a tag.
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
		tag := etag(out, text)
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
		if !sameRevision(wanted, etag(out, text)) {
			return &problem.Error{Kind: problem.Stale, What: "nothing was changed", Why: "somebody else changed it " +
				"since you looked", Next: "look again, then decide"}
		}
		return c.Next()
	}
}
