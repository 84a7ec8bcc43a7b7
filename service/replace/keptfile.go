package replace

import (
	"context"
	"errors"
	"fmt"

	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/service/problem"
	"freshseal/store"
)

func keptPurpose(replacement int64, name string) string {
	return fmt.Sprintf("kept/%d/%s", replacement, name)
}

// keepFiles seals the captured values that are kept as files, for the end of their step.
func (s *Service) keepFiles(step *store.Step, values map[string]procedure.Value) {
	for name, v := range values {
		if !v.Keep {
			continue
		}
		content := []byte(v.Text)
		step.Kept = append(step.Kept, store.KeptFile{ReplacementID: step.ReplacementID, Name: name, At: s.moment(),
			Size: len(content), SHA256: cert.Fingerprint(content),
			Sealed: s.box.Seal(keptPurpose(step.ReplacementID, name), content)})
	}
}

func showKeptFiles(rows []store.KeptFile) []contract.KeptFile {
	var out []contract.KeptFile
	for _, f := range rows {
		out = append(out, contract.KeptFile{Name: f.Name, At: f.At.Time, Bytes: f.Size, SHA256: f.SHA256})
	}
	return out
}

// ExportFile gives a file that was kept. It may hold keys: the reason stands in the audit log before anything is given.
func (s *Service) ExportFile(ctx context.Context, id, name string, e contract.FileExport, by string) ([]byte, error) {
	cannot := "the file was not exported"
	n, err := idNumber(id)
	if err != nil {
		return nil, err
	}
	if len(e.Reason) < 10 || len(e.Reason) > 500 {
		return nil, problem.Reject(cannot, "it needs a reason of 10 to 500 characters", "give one",
			next.Give.On("reason"))
	}
	f, err := s.store.Journal.KeptFile(ctx, n, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, problem.New(problem.NotFound, fmt.Sprintf("%s has no file %q that is kept", id, name), "", "",
			next.ShowReplacement.On(id))
	}
	if err != nil {
		return nil, err
	}
	content, err := s.box.Open(keptPurpose(n, name), f.Sealed)
	if err != nil {
		return nil, err
	}
	return content, s.audit.Record(ctx, by, "export the file "+name+" of "+id, e.Reason)
}
