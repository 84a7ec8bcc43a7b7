package engine

import (
	"bytes"
	"context"
	"crypto"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/request"
	"freshseal/store"
)

// recall adds to the values of a job what its steps have captured so far.
func (s keys) recall(j *Job, steps []store.Step) error {
	values, err := s.capturedIn(steps)
	j.Scope = j.Scope.WithAll(values)
	return err
}

// capturedIn returns all that steps captured.
func (s keys) capturedIn(steps []store.Step) (map[string]value.Value, error) {
	out := map[string]value.Value{}
	for _, step := range steps {
		if !step.OK || step.Capture == "" {
			continue
		}
		values, err := s.openCaptured(step)
		if err != nil {
			return nil, err
		}
		maps.Copy(out, values)
	}
	return out, nil
}

// How captured values are stored.
const (
	keptValues = "values"
	KeptSealed = "sealed"
)

// CapturePurpose returns the purpose under which the captured values of a step are sealed.
func CapturePurpose(stepID int64) string { return "step/" + strconv.FormatInt(stepID, 10) }

// KeepCaptured stores what a step captured, sealed if any of it is secret.
func (s keys) KeepCaptured(step *store.Step, values map[string]value.Value) error {
	if len(values) == 0 {
		return nil
	}
	text, err := json.Marshal(values)
	if err != nil {
		return err
	}
	step.Capture, step.Captured = keptValues, text
	for _, v := range values {
		if v.Secret {
			step.Capture, step.Captured = KeptSealed, s.box.Seal(CapturePurpose(step.ID), text)
		}
	}
	return nil
}

func (s keys) openCaptured(step store.Step) (map[string]value.Value, error) {
	text := step.Captured
	if step.Capture == KeptSealed {
		var err error
		if text, err = s.box.Open(CapturePurpose(step.ID), text); err != nil {
			return nil, err
		}
	}
	var values map[string]value.Value
	return values, json.Unmarshal(text, &values)
}

// forgetCaptured deletes the captured secret files of a replacement, such as private keys, from its steps and its
// tasks. What sections after the given one captured stays: a revert after the seal may need it.
func (s keys) forgetCaptured(ctx context.Context, id int64, section procedure.Section) error {
	steps, err := s.store.Journal.Steps(ctx, id)
	if err != nil {
		return err
	}
	for _, step := range steps {
		if step.Capture != KeptSealed || section != everySection && step.Section != string(section) {
			continue
		}
		values, err := s.openCaptured(step)
		if err != nil {
			return err
		}
		before := len(values)
		maps.DeleteFunc(values, func(_ string, v value.Value) bool {
			return v.Secret && v.Kind == value.Content
		})
		if len(values) == before {
			continue
		}
		step.Capture, step.Captured = "", nil
		if err := s.KeepCaptured(&step, values); err != nil {
			return err
		}
		if err := s.store.Journal.SetCaptured(ctx, step); err != nil {
			return err
		}
	}
	return s.store.Tasks.ForgetFiles(ctx, id)
}

// everySection makes forgetCaptured delete what any section captured.
const everySection procedure.Section = ""

// Captured returns everything that the steps of a replacement have captured so far.
func (s keys) Captured(ctx context.Context, id int64) (map[string]value.Value, error) {
	steps, err := s.store.Journal.Steps(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.capturedIn(steps)
}

// Fits reports whether the keys that could be opened belong to a request.
func Fits(keys []crypto.Signer, made request.Request) bool {
	return !slices.ContainsFunc(keys, func(key crypto.Signer) bool {
		public, err := x509.MarshalPKIXPublicKey(key.Public())
		return err != nil || !bytes.Equal(public, made.SPKI())
	})
}

// keysFit checks that the private keys that came with a request, from a helper or a person, belong to it.
func (s keys) keysFit(ctx context.Context, id int64, made request.Request) error {
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
		if !v.Secret || v.Kind != value.Content {
			continue
		}
		accounts, err := pile.Sort([]pile.File{{Name: name, Content: []byte(v.Text)}}, pile.Options{})
		if err != nil || !Fits(pile.Keys(accounts), made) {
			return fmt.Errorf("the key that came as {{%s}} is not that of the request; nothing was sent to the "+
				"signer. Cancel, and replace again", name)
		}
	}
	return nil
}

// KeptPurpose returns the purpose under which a secret file kept by a step is sealed.
func KeptPurpose(replacement int64, name string) string {
	return fmt.Sprintf("kept/%d/%s", replacement, name)
}

// KeepFiles seals the captured values that are kept as files, to be stored at the end of their step.
func (s keys) KeepFiles(step *store.Step, values map[string]value.Value) {
	for name, v := range values {
		if !v.Keep {
			continue
		}
		content := []byte(v.Text)
		step.Kept = append(step.Kept, store.KeptFile{ReplacementID: step.ReplacementID, Name: name, At: s.moment(),
			Size: len(content), SHA256: cert.Fingerprint(content),
			Sealed: s.box.Seal(KeptPurpose(step.ReplacementID, name), content)})
	}
}
