package replace

import (
	"bytes"
	"context"
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"slices"

	"freshseal/core/language/procedure"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/request"
	"freshseal/service/problem"
	"freshseal/store"
)

// checkKey says what is wrong with a private key that a person gives back, and returns it
// as it was before it became text. One that can be opened must be that of the request.
func (s *Service) checkKey(ctx context.Context, row store.Task, text, cannot string) (string, error) {
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
	given, err := s.captured(ctx, row.ReplacementID)
	if err != nil {
		return "", err
	}
	if asked, ok := given[string(procedure.Request)]; ok {
		made, err := request.Parse([]byte(asked.Text))
		if err != nil {
			return "", err
		}
		if !fits(pile.Keys(accounts), made) {
			return "", problem.Reject(cannot, "the key is not that of the request", "download both again, from the "+
				"same page at the same time; then cancel, and replace again with them")
		}
	}
	return string(content), nil
}

// captured is all that the steps of a replacement captured so far.
func (s *Service) captured(ctx context.Context, id int64) (map[string]procedure.Value, error) {
	steps, err := s.store.Journal.Steps(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.capturedIn(steps)
}

// fits says that keys, as far as they could be opened, are that of a request.
func fits(keys []crypto.Signer, made request.Request) bool {
	return !slices.ContainsFunc(keys, func(key crypto.Signer) bool {
		public, err := x509.MarshalPKIXPublicKey(key.Public())
		return err != nil || !bytes.Equal(public, made.SPKI())
	})
}

// keysFit sees that the private keys that came with a request, from a helper or by a person,
// are its own.
func (s *Service) keysFit(ctx context.Context, id int64, made request.Request) error {
	steps, err := s.store.Journal.Steps(ctx, id)
	if err != nil {
		return err
	}
	steps = slices.DeleteFunc(steps, func(step store.Step) bool { return step.Section != string(procedure.Request) })
	given, err := s.capturedIn(steps)
	if err != nil {
		return err
	}
	for name, v := range given {
		if !v.Secret || v.Kind != procedure.Content {
			continue
		}
		accounts, err := pile.Sort([]pile.File{{Name: name, Content: []byte(v.Text)}}, pile.Options{})
		if err != nil || !fits(pile.Keys(accounts), made) {
			return fmt.Errorf("the key that came as {{%s}} is not that of the request; nothing was sent to the "+
				"signer. Cancel, and replace again", name)
		}
	}
	return nil
}
