package procedure

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"freshseal/core/language/value"
)

// NewScope makes the scope of a device: every setting with its default or with
// what own says instead. Errors name the setting and what to write. made may be
// nil.
func NewScope(m Material, own map[string]string, made *Made) (*Scope, error) {
	if made == nil {
		made = &Made{}
	}
	p := m.Procedure
	s := &Scope{own: map[string]value.Value{}, Material: &m, Made: made}
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
		if err == nil && setting.Kind == value.Command && setting.Default != "" && len(v.Words) == 0 {
			err = fmt.Errorf("it is empty; write a command, such as %s", setting.Default)
		}
		if err != nil {
			return nil, fmt.Errorf("setting %s: %w", setting.Name, err)
		}
		s.own[setting.Name] = v
	}
	if p.Traits.KeyEither {
		s.Material.Procedure.Traits.KeyGiven = !slices.ContainsFunc(p.Steps[Request], func(step Step) bool {
			return step.Holds(s) && slices.ContainsFunc(step.Capture, func(c Capture) bool {
				return c.Name == requested
			})
		})
	}
	return s, nil
}

// Procedure returns the scope's procedure, of which the settings say who makes the key.
func (s *Scope) Procedure() Procedure { return s.Material.Procedure }

func (p Procedure) settingNames() []string {
	names := make([]string, len(p.Settings))
	for i, s := range p.Settings {
		names[i] = s.Name
	}
	return names
}

// With returns the scope with one value more.
func (s *Scope) With(name string, v value.Value) *Scope {
	return s.WithAll(map[string]value.Value{name: v})
}

// WithAll returns the scope with several values more.
func (s *Scope) WithAll(more map[string]value.Value) *Scope {
	if len(more) == 0 {
		return s
	}
	out := *s
	out.own = make(map[string]value.Value, len(s.own)+len(more))
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
	out.Material = &m
	return &out
}

// JoinedBy returns the scope in which something else is between the items of a list.
func (s *Scope) JoinedBy(between *string) *Scope {
	out := *s
	out.between = between
	return &out
}

// Plain returns a value as one text.
func (s *Scope) Plain(v value.Value) string {
	if v.Kind == value.List && s.between != nil {
		return strings.Join(v.Words, *s.between)
	}
	return v.Plain()
}

// outside returns the scope of who is not signed in yet.
func (s *Scope) outside() *Scope {
	out := *s
	out.NotIn = true
	return &out
}

// Value finds a value. The error says why there is none, without its name.
func (s *Scope) Value(name string) (value.Value, error) {
	if v, ok := s.own[name]; ok {
		if v.Kind == value.Pattern {
			return s.patterned(v)
		}
		return v, nil
	}
	if v, ok := s.Made.get(name); ok {
		return v, nil
	}
	v, about, err := s.make(name)
	switch {
	case errors.Is(err, errUnknown) && s.Assume:
		v.Known, v.About = false, about
		return v, nil
	case err != nil:
		return v, err
	case v.Kind == value.Content || v.Secret:
		s.Made.put(name, v) // the others cost nothing, and are no secrets to be hidden
	}
	v.About = about
	return v, nil
}

// patterned fills in a pattern.
func (s *Scope) patterned(v value.Value) (value.Value, error) {
	v.Kind = value.Text
	text, err := ReplaceEach(v.Text, s, func(in value.Value, _ string) (string, error) {
		if !in.Known {
			v.Known = false
			return YetToCome(in), nil
		}
		return in.Text, nil
	})
	if v.Text = text; !v.Known {
		v.About = text // a rehearsal shows what it will be
	}
	return v, err
}

func (s *Scope) make(name string) (v value.Value, about string, err error) {
	if p, ok := s.Material.Procedure.Pack(name); ok {
		v, err = s.Material.pack(p.Form, p.Dress)
		if err != nil {
			v.Kind, v.Secret = value.Content, p.Secret()
		}
		return v, p.About, err
	}
	g, ok := givenOf(name)
	if !ok {
		return value.Value{Kind: value.Content}, "what a step captures as " + name, errUnknown
	}
	v, err = g.make(s.Material)
	if err != nil {
		v.Kind, v.Secret = g.kind, g.secret || name == "new_key"
	}
	return v, g.about, err
}

// Secrets returns the texts that must not be shown, long enough to be told from
// other words.
func (s *Scope) Secrets() []string {
	var out []string
	for _, v := range append(slices.Collect(maps.Values(s.own)), s.Made.secrets()...) {
		if v.Secret && len(v.Text) >= 4 {
			out = append(out, v.Text)
		}
	}
	slices.SortFunc(out, func(a, b string) int { return len(b) - len(a) })
	return out
}

// Filled reports whether a value is there and not empty.
func (s *Scope) Filled(name string) bool {
	v, err := s.Value(name)
	return err == nil && v.Filled()
}
