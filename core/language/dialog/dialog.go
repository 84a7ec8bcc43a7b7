// Package dialog holds a conversation with a program on a terminal.
//
//	what it writes → Hear → Next: the line that is waited for, or one that may come at any time
//	                          │
//	                        Turn: what is typed then, or that it went wrong
//
// Nothing is ever answered that was not recognised.
package dialog

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"freshseal/core/terminal/screen"
)

// Turn is one exchange: what is waited for, and what is typed then.
type Turn struct {
	See      *regexp.Regexp
	Say      []byte        // as it is sent, line ends included; empty: nothing is typed
	Shown    string        // Say for people: secrets as dots
	Fail     string        // it went wrong: why, for people
	Nothing  bool          // Fail says that the device changed nothing
	Within   time.Duration // how long it is waited for
	Progress bool          // the first group of See is how much is done, in percent
}

// MaxHeard is how much a program may write in one conversation.
const MaxHeard = 1 << 20

// maxWritten is how many bytes it may write with all that only moves the cursor: full-screen programs draw the same
// again and again, for as long as a restart takes.
const maxWritten = 32 << 20

// ErrFlood means that a program wrote more than that.
var ErrFlood = fmt.Errorf("the program wrote more than %d bytes", MaxHeard)

// Refused means that the program wrote what a turn calls a failure.
type Refused struct {
	Why, Said string
	Nothing   bool // the program says that it changed nothing
}

func (e *Refused) Error() string { return e.Why + ": " + e.Said }

// Conversation goes through its turns in order. What may come at any time is answered
// whenever it comes.
type Conversation struct {
	Turns     []Turn
	Meanwhile []Turn

	screen  *screen.Screen
	plain   screen.Plain
	written int // bytes
	seen    int // up to here the text was answered
	at      int // the turn that is waited for
	percent int
	typed   string // drawn on the screen once it is known that the program does not echo it
	echoes  bool
}

// Hear takes what the program wrote.
func (c *Conversation) Hear(text []byte) error {
	if c.screen == nil {
		c.screen = screen.New()
	}
	if c.typed != "" {
		line, _, _ := strings.Cut(c.typed, "\r")
		if c.echoes = c.echoes || strings.HasPrefix(string(text), line); !c.echoes {
			c.screen.Write([]byte(strings.ReplaceAll(c.typed, "\r", "\r\n")))
		}
		c.typed = ""
	}
	c.screen.Write(text)
	c.plain.Write(text)
	c.written += len(text)
	if c.plain.Len() > MaxHeard || c.written > maxWritten {
		return ErrFlood
	}
	return nil
}

// Next returns the turn whose text has come, the first in the text where several have. It is
// done then: what it says is to be typed. Nothing is returned while nothing has come.
// A turn that fails is a *Refused.
func (c *Conversation) Next() (*Turn, error) {
	unseen := c.plain.Bytes()[min(c.seen, c.plain.Len()):] // a backspace may have taken some back
	var found *Turn
	var where []int
	ordered := false
	look := func(t *Turn, inOrder bool) {
		m := t.See.FindSubmatchIndex(unseen)
		if m == nil || m[0] == m[1] || found != nil &&
			(m[0] > where[0] || m[0] == where[0] && (found.Fail != "" || t.Fail == "")) {
			return
		}
		found, where, ordered = t, m, inOrder
	}
	if c.at < len(c.Turns) {
		look(&c.Turns[c.at], true)
	}
	for i := range c.Meanwhile {
		look(&c.Meanwhile[i], false)
	}
	if found == nil {
		return nil, nil
	}
	said := string(unseen[where[0]:where[1]])
	if found.Progress && len(where) > 3 && where[2] >= 0 {
		if n, err := strconv.Atoi(string(unseen[where[2]:where[3]])); err == nil && n <= 100 {
			c.percent = n
		}
	}
	c.seen += where[1]
	if ordered {
		c.at++
	}
	if found.Fail != "" {
		return nil, &Refused{found.Fail, said, found.Nothing}
	}
	return found, nil
}

// Typed says that what a turn says was typed: people see it on the screen, as they would
// with a program that echoes. Secrets are dots there, pasted files are not drawn.
func (c *Conversation) Typed(t *Turn) {
	if said := string(t.Say); strings.HasSuffix(said, "\r") && strings.Count(said, "\r") == 1 {
		c.typed = t.Shown + "\r"
	}
}

// Waits returns the turn that is waited for; nothing once all are done.
func (c *Conversation) Waits() *Turn {
	if c.at < len(c.Turns) {
		return &c.Turns[c.at]
	}
	return nil
}

// Stuck returns an error that names what did not come.
func (c *Conversation) Stuck() error {
	if w := c.Waits(); w != nil {
		return fmt.Errorf("%q did not appear within %s; an unknown prompt is never answered", w.See, w.Within)
	}
	return errors.New("the program did not end after the last answer")
}

// Cut says that the program ended too early.
func (c *Conversation) Cut() error {
	if w := c.Waits(); w != nil {
		return fmt.Errorf("the program ended before %q appeared", w.See)
	}
	return nil
}

// Text returns all that was written, as lines.
func (c *Conversation) Text() []byte { return c.plain.Bytes() }

// Screen returns what stands on the terminal now.
func (c *Conversation) Screen() string {
	if c.screen == nil {
		return ""
	}
	return c.screen.Text()
}

// Percent returns how much the program says is done, 0 where it says nothing.
func (c *Conversation) Percent() int { return c.percent }
