package engine

import (
	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
	"freshseal/core/replacement"
	"freshseal/store"
)

// newTask creates a task for a step in its final form.
func (s *Service) newTask(replacementID int64, ready procedure.Ready) *store.Task {
	act := ready.Act.(*verb.HandAct)
	t := &store.Task{Ask: act.Ask, Key: act.Key, Seen: act.Seen, DueAt: store.At(s.now().Add(ready.Step.Limit))}
	if len(ready.Step.Capture) > 0 {
		t.Capture = ready.Step.Capture[0].Name
	}
	t.Copy.V = act.Copy
	for _, file := range act.Files {
		kept := store.TaskFile{Name: file.Name, Content: file.Content, Secret: file.Secret}
		if file.Secret {
			kept.Content = s.box.Seal(TaskFilePurpose(replacementID, file.Name), file.Content)
		}
		t.Files.V = append(t.Files.V, kept)
	}
	return t
}

// TaskFilePurpose returns the purpose under which a secret file of a task is sealed.
func TaskFilePurpose(replacementID int64, name string) string {
	return "replacement/" + replacement.Name(replacementID) + "/file/" + name
}
