package procedure

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// NewScope makes the scope of a device: every setting with its default or with
// what own says instead. Errors name the setting and what to write. made may be
// nil.
func NewScope(m Material, own map[string]string, made *Made) (*Scope, error) {
	if made == nil {
		made = &Made{}
	}
	p := m.Procedure
	s := &Scope{own: map[string]Value{}, material: &m, made: made}
	for name := range own {
		if _, ok := p.Setting(name); !ok {
			return nil, fmt.Errorf("the procedure %s has no setting %q; its settings are %s", p.Name, name,
				strings.Join(p.settingNames(), ", "))
		}
	}
	for _, setting := range p.Settings {
		text, ok := own[setting.Name]
		if !ok {
			text = setting.Default
		}
		v, err := setting.read(text)
		if err == nil && setting.Kind == Command && setting.Default != "" && len(v.Words) == 0 {
			err = fmt.Errorf("it is empty; write a command, such as %s", setting.Default)
		}
		if err != nil {
			return nil, fmt.Errorf("setting %s: %w", setting.Name, err)
		}
		s.own[setting.Name] = v
	}
	if p.Traits.KeyEither {
		s.material.Procedure.Traits.KeyGiven = !slices.ContainsFunc(p.Steps[Request], func(step Step) bool {
			return step.Holds(s) && slices.ContainsFunc(step.Capture, func(c Capture) bool {
				return c.Name == requested
			})
		})
	}
	return s, nil
}

// Procedure is the scope's procedure, of which the settings say who makes the key.
func (s *Scope) Procedure() Procedure { return s.material.Procedure }

func (p Procedure) settingNames() []string {
	names := make([]string, len(p.Settings))
	for i, s := range p.Settings {
		names[i] = s.Name
	}
	return names
}

// With returns the scope with one value more.
func (s *Scope) With(name string, v Value) *Scope {
	return s.WithAll(map[string]Value{name: v})
}

// WithAll returns the scope with several values more.
func (s *Scope) WithAll(more map[string]Value) *Scope {
	if len(more) == 0 {
		return s
	}
	out := *s
	out.own = make(map[string]Value, len(s.own)+len(more))
	for k, each := range s.own {
		out.own[k] = each
	}
	for k, each := range more {
		out.own[k] = each
	}
	return &out
}

// WithMaterial returns the scope with other material behind the given values,
// such as a path that has come since.
func (s *Scope) WithMaterial(m Material) *Scope {
	out := *s
	out.material = &m
	return &out
}

// joinedBy is the scope in which something else stands between the items of a list.
func (s *Scope) joinedBy(between *string) *Scope {
	out := *s
	out.between = between
	return &out
}

// plain is a value as one text.
func (s *Scope) plain(v Value) string {
	if v.Kind == List && s.between != nil {
		return strings.Join(v.Words, *s.between)
	}
	return v.plain()
}

// outside is the scope of who is not signed in yet.
func (s *Scope) outside() *Scope {
	out := *s
	out.notIn = true
	return &out
}

// Value finds a value. The error says why there is none, without its name.
func (s *Scope) Value(name string) (Value, error) {
	if v, ok := s.own[name]; ok {
		if v.Kind == Pattern {
			return s.patterned(v)
		}
		return v, nil
	}
	if v, ok := s.made.get(name); ok {
		return v, nil
	}
	v, about, err := s.make(name)
	switch {
	case errors.Is(err, errUnknown) && s.assume:
		v.Known, v.About = false, about
		return v, nil
	case err != nil:
		return v, err
	case v.Kind == Content || v.Secret:
		s.made.put(name, v) // the others cost nothing, and are no secrets to be hidden
	}
	v.About = about
	return v, nil
}

// patterned fills in a pattern.
func (s *Scope) patterned(v Value) (Value, error) {
	v.Kind = Text
	text, err := replaceEach(v.Text, s, func(in Value, _ string) (string, error) {
		if !in.Known {
			v.Known = false
			return yetToCome(in), nil
		}
		return in.Text, nil
	})
	if v.Text = text; !v.Known {
		v.About = text // a rehearsal shows what it will be
	}
	return v, err
}

func (s *Scope) make(name string) (v Value, about string, err error) {
	if p, ok := s.material.Procedure.Pack(name); ok {
		v, err = s.material.pack(p.Form, p.Dress)
		if err != nil {
			v.Kind, v.Secret = Content, p.Secret()
		}
		return v, p.About, err
	}
	g, ok := givenOf(name)
	if !ok {
		return Value{Kind: Content}, "what a step captures as " + name, errUnknown
	}
	v, err = g.make(s.material)
	if err != nil {
		v.Kind, v.Secret = g.kind, g.secret || name == "new_key"
	}
	return v, g.about, err
}

// Secrets are the texts that must not be shown, long enough to be told from
// other words.
func (s *Scope) Secrets() []string {
	var out []string
	for _, v := range append(slices.Collect(maps.Values(s.own)), s.made.secrets()...) {
		if v.Secret && len(v.Text) >= 4 {
			out = append(out, v.Text)
		}
	}
	slices.SortFunc(out, func(a, b string) int { return len(b) - len(a) })
	return out
}

// filled reports whether a value is there and not empty.
func (s *Scope) filled(name string) bool {
	v, err := s.Value(name)
	return err == nil && v.filled()
}
