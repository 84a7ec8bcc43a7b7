package replace

import (
	"context"
	"encoding/base64"
	"slices"

	"freshseal/core/language/procedure"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/request"
	"freshseal/service/engine"
	"freshseal/service/problem"
	"freshseal/store"
)

// checkKey checks a private key that a person provides, and returns it as it was before it became text. If it can be
// opened, it must belong to the request.
func (s *Tasks) checkKey(ctx context.Context, row store.Task, text, cannot string) (string, error) {
	content := []byte(text + "\n")
	if der, err := base64.StdEncoding.DecodeString(text); err == nil { // a file that is no text comes so
		content = der
	}
	accounts, err := pile.Sort([]pile.File{{Name: "the key", Content: content}}, pile.Options{})
	if err != nil || !slices.ContainsFunc(accounts, func(a pile.Account) bool {
		return slices.ContainsFunc(a.Holds, func(item pile.Item) bool { return item.Kind == pile.Key })
	}) {
		return "", problem.Reject(cannot, "the result is not a private key", "give "+row.Ask)
	}
	given, err := s.Captured(ctx, row.ReplacementID)
	if err != nil {
		return "", err
	}
	if asked, ok := given[string(procedure.Request)]; ok {
		made, err := request.Parse([]byte(asked.Text))
		if err != nil {
			return "", err
		}
		if !engine.Fits(pile.Keys(accounts), made) {
			return "", problem.Reject(cannot, "the key is not that of the request", "download both again, from the "+
				"same page at the same time; then cancel, and replace again with them")
		}
	}
	return string(content), nil
}
