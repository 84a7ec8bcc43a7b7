package dialog

import (
	"bytes"
	"errors"
	"regexp"
	"strings"
	"testing"
	"time"
)

func turn(see, say string) Turn {
	return Turn{See: regexp.MustCompile(see), Say: []byte(say), Within: time.Second}
}

// hear plays what a program writes, piece by piece, and collects what is typed.
func hear(t *testing.T, c *Conversation, pieces ...string) (typed string, err error) {
	t.Helper()
	for _, piece := range pieces {
		if err := c.Hear([]byte(piece)); err != nil {
			return typed, err
		}
		for {
			next, err := c.Next()
			if err != nil {
				return typed, err
			}
			if next == nil {
				break
			}
			typed += string(next.Say) + "|"
		}
	}
	return typed, nil
}

func TestAConversation(t *testing.T) {
	menu := func() *Conversation {
		return &Conversation{
			Turns: []Turn{turn("word: $", "salt"), turn("choice: $", "1"), turn(`Country \[\w*\]: $`, "XA"),
				turn("written", "")},
			Meanwhile: []Turn{turn("--more--", " "), {See: regexp.MustCompile(`(\d+)%`), Progress: true},
				{See: regexp.MustCompile("not accepted"), Fail: "the manager refuses it"}},
		}
	}
	for _, c := range []struct {
		name   string
		pieces []string
		typed  string
		left   string // what is still waited for
	}{
		{"in order", []string{"Password: ", "\r\nchoice: ", "Country [XB]: ", "written to /x"}, "salt|1|XA||", ""},
		{"in pieces", []string{"Pass", "word:", " ", "choice: "}, "salt|1|", "Country"},
		{"with pages in between", []string{"Password: ", "a\r\n--more--", "b\r\n--more--", "choice: "}, "salt| | |1|",
			"Country"},
		{"a prompt that is worded otherwise is not answered", []string{"Passphrase? ", "choice: "}, "", "word"},
		{"a prompt that comes too early is not taken for another", []string{"choice: ", "Password: "}, "salt|",
			"choice"},
	} {
		m := menu()
		typed, err := hear(t, m, c.pieces...)
		left := ""
		if m.Waits() != nil {
			left = m.Waits().See.String()
		}
		if err != nil || typed != c.typed || !strings.HasPrefix(left, c.left) || (c.left == "") != (left == "") {
			t.Errorf("%s: typed %q instead of %q, waits for %q, %v", c.name, typed, c.typed, left, err)
		}
	}
	m := menu()
	if _, err := hear(t, m, "Password: ", "\x1b[H\x1b[2J 12%", "\r 37%"); err != nil || m.Percent() != 37 ||
		m.Screen() != " 37%" {
		t.Errorf("%d percent, screen %q, %v", m.Percent(), m.Screen(), err)
	}
	var refused *Refused
	if _, err := hear(t, m, "\r\nchain not accepted, choice: "); !errors.As(err, &refused) ||
		refused.Why != "the manager refuses it" {
		t.Errorf("a refusal is %v", err)
	}
	if _, err := hear(t, menu(), strings.Repeat("nothing that matters\n", MaxHeard/20)); !errors.Is(err, ErrFlood) {
		t.Errorf("a flood is %v", err)
	}
}

// What is typed stands on the screen as people expect it, once.
func TestWhatIsTypedIsDrawnOnce(t *testing.T) {
	for name, pieces := range map[string][]string{"no echo": {"Name: ", "thanks"},
		"echo": {"Name: ", "tern\r\nthanks"}} {
		c := &Conversation{Turns: []Turn{{See: regexp.MustCompile("Name: $"), Say: []byte("tern\r"), Shown: "tern",
			Within: time.Second}}}
		for _, piece := range pieces {
			if err := c.Hear([]byte(piece)); err != nil {
				t.Fatal(err)
			}
			if turn, err := c.Next(); err != nil {
				t.Fatal(err)
			} else if turn != nil {
				c.Typed(turn)
			}
		}
		if c.Screen() != "Name: tern\nthanks" {
			t.Errorf("%s: %q", name, c.Screen())
		}
	}
}

// A pattern that matches nothing at all would be found for ever: it is never found.
func TestAnEmptyMatchEnds(t *testing.T) {
	c := &Conversation{Turns: []Turn{turn("x", "")}, Meanwhile: []Turn{turn("z*", "")}}
	if _, err := hear(t, c, strings.Repeat("abc", 100)); err != nil {
		t.Error(err)
	}
}

// Whatever a device writes, and in whatever pieces: only what a turn says is typed, the
// turns in their order, and never before their text has come.
func FuzzConversation(f *testing.F) {
	f.Add("Password: choice: Country [XB]: written", uint8(3))
	f.Add("\x1b[2J\x1b[5;1HPass\bsword: 100%\r--more--", uint8(1))
	f.Add("not accepted", uint8(200))
	f.Fuzz(func(t *testing.T, text string, size uint8) {
		c := &Conversation{
			Turns: []Turn{turn("word: $", "1"), turn("choice: $", "2"), turn("written", "3")},
			Meanwhile: []Turn{turn("--more--", "m"), {See: regexp.MustCompile(`(\d+)%`), Progress: true},
				{See: regexp.MustCompile("not accepted"), Fail: "no"}},
		}
		typed := ""
		for len(text) > 0 {
			n := min(len(text), int(size)+1)
			if c.Hear([]byte(text[:n])) != nil {
				return
			}
			text = text[n:]
			for {
				next, err := c.Next()
				if err != nil || next == nil {
					break
				}
				if !next.See.Match(c.Text()) {
					t.Fatalf("%q is answered and never came: %q", next.See, c.Text())
				}
				typed += strings.Trim(string(next.Say), "m")
				c.Typed(next)
			}
		}
		if !strings.HasPrefix("123", typed) {
			t.Errorf("typed %q", typed)
		}
		if c.Percent() < 0 || c.Percent() > 100 {
			t.Errorf("%d percent", c.Percent())
		}
	})
}

// A program that writes nothing but what moves the cursor comes to an end as well.
func TestEscapesAreCountedToo(t *testing.T) {
	c := &Conversation{}
	text := bytes.Repeat([]byte("\x1b[1;1H\x1b[2K"), 1000)
	var err error
	heard := 0
	for ; err == nil && heard < 1<<30; heard += len(text) {
		err = c.Hear(text)
	}
	if !errors.Is(err, ErrFlood) {
		t.Errorf("after %d bytes: %v", heard, err)
	}
}
