package verb

import (
	"regexp"
	"regexp/syntax"
	"strings"
)

// seenAs returns a prompt as a person sees it, from the pattern that matches it: “Choice:”. What may stand for anything
// is “…”.
func seenAs(pattern *regexp.Regexp) string {
	tree, err := syntax.Parse(pattern.String(), syntax.Perl)
	if err != nil {
		return pattern.String()
	}
	parts := []*syntax.Regexp{tree}
	if tree.Op == syntax.OpAlternate {
		parts = tree.Sub
	}
	var out []string
	for _, part := range parts {
		if text := strings.TrimSpace(dotsTwice.ReplaceAllString(promptOf(part), "…")); text != "" {
			out = append(out, "“"+text+"”")
		}
	}
	return strings.Join(out, " or ")
}

var dotsTwice = regexp.MustCompile(`…(\s*…)+`)

func promptOf(e *syntax.Regexp) string {
	switch e.Op {
	case syntax.OpLiteral:
		return string(e.Rune)
	case syntax.OpCapture, syntax.OpPlus:
		if e.Sub[0].Op == syntax.OpCharClass || e.Sub[0].Op == syntax.OpAnyChar ||
			e.Sub[0].Op == syntax.OpAnyCharNotNL {
			return spaceOr(e.Sub[0])
		}
		return promptOf(e.Sub[0])
	case syntax.OpConcat:
		var b strings.Builder
		for _, sub := range e.Sub {
			b.WriteString(promptOf(sub))
		}
		return b.String()
	case syntax.OpAlternate:
		var texts []string
		for _, sub := range e.Sub {
			texts = append(texts, promptOf(sub))
		}
		return strings.Join(texts, "|")
	case syntax.OpStar, syntax.OpQuest, syntax.OpRepeat, syntax.OpCharClass, syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		return spaceOr(e)
	}
	return "" // the ends of lines and texts
}

// spaceOr returns a blank for what can only be blank, else “…”; what may be left out is nothing where it is blank.
func spaceOr(e *syntax.Regexp) string {
	inner := e
	for inner.Op == syntax.OpStar || inner.Op == syntax.OpQuest || inner.Op == syntax.OpRepeat ||
		inner.Op == syntax.OpPlus {
		inner = inner.Sub[0]
	}
	if inner.Op == syntax.OpLiteral && e.Op == syntax.OpQuest {
		return string(inner.Rune)
	}
	if inner.Op == syntax.OpCharClass && len(inner.Rune) > 0 && inner.Rune[len(inner.Rune)-1] <= ' ' ||
		inner.Op == syntax.OpLiteral && strings.TrimSpace(string(inner.Rune)) == "" {
		if e.Op == syntax.OpStar || e.Op == syntax.OpQuest {
			return ""
		}
		return " "
	}
	return "…"
}
