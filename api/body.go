package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"time"

	"freshseal/core/pki/pile"
	"freshseal/service/problem"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"
)

// Limits of what clients send. Bodies are streams: before a call is admitted no more
// than fasthttp's first 8 kB of one are read.
const (
	maxBody    = pile.MaxBytes + 1<<20 // a whole pile and its multipart wrapping
	plainBody  = 1 << 20               // of a call that takes no pile
	signInBody = 8 << 10               // of a sign-in: nobody is admitted yet
	fileBody   = 32 << 20              // of a call that takes a long list

	maxConnections = 2048
	readLimit      = 60 * time.Second // for a whole request
	writeLimit     = 2 * time.Minute  // for a whole answer, also to a client that does not read
	idleLimit      = 2 * time.Minute
	longLimit      = 10 * time.Minute // for a pile or a copy of the database on a slow line

	intakesAtOnce = 2
	intakeLimit   = 2 * time.Minute
)

func tooLong(most int) error {
	return problem.New(problem.TooLong, "the body is too long",
		fmt.Sprintf("this call takes at most %d kB", most>>10), "send less, or split it")
}

// bodyOf reads the body of a call, up to a limit.
func bodyOf(c fiber.Ctx, most int) ([]byte, error) {
	if c.Request().Header.ContentLength() > most {
		return nil, tooLong(most)
	}
	stream := c.Request().BodyStream()
	if stream == nil {
		return c.Request().Body(), nil
	}
	text, err := io.ReadAll(io.LimitReader(stream, int64(most)+1))
	switch {
	case err != nil:
		return nil, problem.Reject("the body cannot be read", err.Error(), "send it again")
	case len(text) > most:
		return nil, tooLong(most)
	}
	return text, nil
}

// upload is a multipart body: files, and fields beside them.
type upload struct {
	files  []pile.File
	fields map[string][]string
}

// mostParts is how many files and fields an upload has at most.
const mostParts = 20_000

// uploadOf reads an upload as it comes.
func uploadOf(c fiber.Ctx) (upload, error) {
	out := upload{fields: map[string][]string{}}
	none := problem.Reject("there is no file in the body", "", "send multipart/form-data with one or more fields "+
		"called file")
	kind, parameters, err := mime.ParseMediaType(c.Get(fiber.HeaderContentType))
	if err != nil || kind != "multipart/form-data" || parameters["boundary"] == "" {
		return out, none
	}
	if c.Request().Header.ContentLength() > maxBody {
		return out, tooLong(maxBody)
	}
	var stream io.Reader = c.Request().BodyStream()
	if c.Request().BodyStream() == nil {
		stream = bytes.NewReader(c.Request().Body())
	}
	left := int64(maxBody)
	parts := multipart.NewReader(io.LimitReader(stream, left), parameters["boundary"])
	for range mostParts {
		part, err := parts.NextPart()
		if errors.Is(err, io.EOF) {
			if len(out.files) == 0 {
				return out, none
			}
			// What follows the last part belongs to this body, not to the next call.
			if n, _ := io.Copy(io.Discard, io.LimitReader(stream, 1<<16)); n >= 1<<16 {
				c.RequestCtx().SetConnectionClose()
			}
			return out, nil
		}
		if err != nil {
			return out, problem.Reject("the upload cannot be read", err.Error(), "send it again")
		}
		content, err := io.ReadAll(io.LimitReader(part, left+1))
		if err != nil {
			return out, problem.Reject("the upload cannot be read", err.Error(), "send it again")
		}
		if left -= int64(len(content)); left < 0 {
			return out, tooLong(maxBody)
		}
		if part.FormName() == "file" {
			out.files = append(out.files, pile.File{Name: part.FileName(), Content: content})
		} else if len(content) < 1<<16 {
			out.fields[part.FormName()] = append(out.fields[part.FormName()], string(content))
		}
	}
	return out, problem.Reject("the upload cannot be read", "it has too many parts", "split it, or send an archive")
}

// aPlace lets a few intakes at a time go on, each for a limited time.
func (s *Server) aPlace(ctx context.Context) (limited context.Context, leave func(), err error) {
	select {
	case s.intakes <- struct{}{}:
	default:
		return nil, nil, problem.New(problem.TooMany, "the pile was not taken in",
			fmt.Sprintf("%d others are being taken in", intakesAtOnce), "try again in a minute")
	}
	limited, cancel := context.WithTimeout(ctx, intakeLimit)
	return limited, func() { cancel(); <-s.intakes }, nil
}

// slowCalls are calls that may take long to send or to be answered.
var slowCalls = map[string]bool{v1 + "/intakes": true, v1 + "/backup": true, v1 + "/imports": true,
	v1 + "/export": true}

// patience returns how long a call may take to be sent and answered. Who has not signed in
// gains nothing by a slow call but a connection, of which there are so many.
func patience(h *fasthttp.RequestHeader) (c fasthttp.RequestConfig) {
	if slowCalls[string(h.RequestURI())] {
		c.ReadTimeout, c.WriteTimeout = longLimit, longLimit
	}
	return c
}
