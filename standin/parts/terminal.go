package parts

import (
	"strings"

	"freshseal/standin"
)

// Fields asks several questions; an empty answer takes what is in brackets.
func Fields(t *standin.Terminal, questions ...[2]string) ([]string, error) {
	out := make([]string, len(questions))
	for i, q := range questions {
		answer, err := t.Ask(q[0] + " [" + q[1] + "]: ")
		if err != nil {
			return nil, err
		}
		if out[i] = answer; answer == "" {
			out[i] = q[1]
		}
	}
	return out, nil
}

// Words returns the words between commas or spaces.
func Words(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}
