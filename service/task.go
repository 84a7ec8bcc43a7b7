package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"freshseal/core/finding"
	"freshseal/core/procedure"
	"freshseal/core/replacement"
	"freshseal/core/request"
	"freshseal/store"
	"freshseal/wire"
)

// Task is a step that a person does by hand: what to do, what to copy and carry
// there, and what must come back.
type Task struct {
	ID          string          `json:"id" required:"true"`
	Replacement string          `json:"replacement" required:"true"`
	Device      string          `json:"device" required:"true"`
	Slot        string          `json:"slot" required:"true"`
	Stage       string          `json:"stage" required:"true"`
	Name        string          `json:"name" required:"true"`
	Text        string          `json:"text" required:"true"`
	Copy        []TaskValue     `json:"copy" required:"true"`
	Files       []TaskFile      `json:"files" required:"true"`
	Ask         string          `json:"ask,omitempty" description:"what must be given back; where it is empty, only that it is done"`
	Seen        procedure.Sight `json:"seen,omitempty" enum:"new,old" description:"the wire decides: which leaf must be served"`
	BeganAt     time.Time       `json:"began_at" required:"true"`
	DueAt       time.Time       `json:"due_at" required:"true"`
	TakenBy     string          `json:"taken_by" required:"true"`
	Notes       []TaskNote      `json:"notes" required:"true"`
	Domains     []string        `json:"domains,omitempty" description:"that it proves to the signer"`
	Open        bool            `json:"open" required:"true"`
}

// TaskValue is a value to copy.
type TaskValue struct {
	Label string `json:"label" required:"true"`
	Text  string `json:"text" required:"true"`
}

// TaskFile is a file to carry to the device.
type TaskFile struct {
	Name   string `json:"name" required:"true"`
	Size   int    `json:"size" required:"true"`
	SHA256 string `json:"sha256" required:"true"`
}

// TaskNote is what somebody wrote beside a task.
type TaskNote struct {
	At   time.Time `json:"at" required:"true"`
	By   string    `json:"by" required:"true"`
	Text string    `json:"text" required:"true"`
}

// theWire answers tasks whose end is seen on the wire.
const theWire = "the wire"

const mostAnswer = 64 << 10

func taskText(stepID int64) string { return "t" + strconv.FormatInt(stepID, 10) }

// newTask makes a task of a step in its final form.
func (s *Service) newTask(ready procedure.Ready) *store.Task {
	act := ready.Act.(*procedure.HandAct)
	t := &store.Task{Ask: act.Ask, Seen: act.Seen, DueAt: store.At(s.now().Add(ready.Step.Limit))}
	if len(ready.Step.Capture) > 0 {
		t.Capture = ready.Step.Capture[0].Name
	}
	t.Copy.V = act.Copy
	for _, file := range act.Files {
		t.Files.V = append(t.Files.V, store.TaskFile{Name: file.Label, Content: []byte(file.Text)})
	}
	return t
}

func showTask(row store.Task) Task {
	out := Task{ID: taskText(row.StepID), Replacement: idText(row.ReplacementID), Device: row.Device, Slot: row.Slot, Stage: row.Section, Name: row.Name,
		Text: row.Text, Copy: []TaskValue{}, Files: []TaskFile{}, Ask: row.Ask, Seen: row.Seen, BeganAt: row.BeganAt.Time, DueAt: row.DueAt.Time,
		TakenBy: row.TakenBy, Notes: []TaskNote{}, Domains: row.Domains.V, Open: row.Open}
	for _, each := range row.Copy.V {
		out.Copy = append(out.Copy, TaskValue{each.Label, each.Text})
	}
	for _, each := range row.Files.V {
		sum := sha256.Sum256(each.Content)
		out.Files = append(out.Files, TaskFile{each.Name, len(each.Content), hex.EncodeToString(sum[:])})
	}
	for _, n := range row.Notes.V {
		out.Notes = append(out.Notes, TaskNote(n))
	}
	return out
}

// Tasks are those that wait for a person, oldest first.
func (s *Service) Tasks(ctx context.Context) ([]Task, error) {
	rows, err := s.store.OpenTasks(ctx)
	out := make([]Task, 0, len(rows))
	for _, row := range rows {
		out = append(out, showTask(row))
	}
	return out, err
}

// Task shows one task.
func (s *Service) Task(ctx context.Context, id string) (Task, error) {
	row, err := s.taskRow(ctx, id)
	return showTask(row), err
}

func (s *Service) taskRow(ctx context.Context, id string) (store.Task, error) {
	digits, ok := strings.CutPrefix(id, "t")
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || !ok {
		n = 0
	}
	row, err := s.store.Task(ctx, n)
	return row, notFound(err, "see: freshseal task list", "no task is called %q", id)
}

// openTask is a task that is not done yet.
func (s *Service) openTask(ctx context.Context, id string) (store.Task, error) {
	row, err := s.taskRow(ctx, id)
	if err == nil && !row.Open {
		err = taskOver(id, row.ReplacementID)
	}
	return row, err
}

func taskOver(id string, replacementID int64) error {
	return &Error{Conflict, fmt.Sprintf("the task %s is over", id), "it was done, or its replacement went another way", "see: freshseal replacement show " + idText(replacementID)}
}

// TaskFile gives a file of a task.
func (s *Service) TaskFile(ctx context.Context, id, name string) ([]byte, error) {
	row, err := s.taskRow(ctx, id)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(row.Files.V, func(f store.TaskFile) bool { return f.Name == name })
	if i < 0 {
		return nil, &Error{Kind: NotFound, What: fmt.Sprintf("the task %s has no file %q", id, name), Next: "see: freshseal task show " + id}
	}
	return row.Files.V[i].Content, nil
}

// TakeTask says who does a task from now on, whoever had it before.
func (s *Service) TakeTask(ctx context.Context, id, by string) (Task, error) {
	row, err := s.openTask(ctx, id)
	if err != nil {
		return Task{}, err
	}
	if err := s.store.TakeTask(ctx, row.StepID, by); err != nil {
		return Task{}, err
	}
	return s.Task(ctx, id)
}

// NoteTask writes a note beside a task, for whoever takes it over.
func (s *Service) NoteTask(ctx context.Context, id, text, by string) (Task, error) {
	row, err := s.openTask(ctx, id)
	if err != nil {
		return Task{}, err
	}
	if text = strings.TrimSpace(text); text == "" || len(text) > 2000 || len(row.Notes.V) >= 100 {
		return Task{}, invalid("the note was not kept", "it is empty or longer than 2000 letters, or there are a hundred already", "shorten it")
	}
	if err := s.store.AddNote(ctx, row.StepID, store.Note{At: s.now(), By: by, Text: text}); err != nil {
		return Task{}, err
	}
	return s.Task(ctx, id)
}

// AnswerTask takes what a person gives back, or that it is done, and lets the
// replacement go on. Where the wire decides, it is looked at first; a request
// is compared with its plan while the person still stands before the device.
func (s *Service) AnswerTask(ctx context.Context, id, text, by string) (Replacement, error) {
	row, err := s.openTask(ctx, id)
	if err != nil {
		return Replacement{}, err
	}
	cannot := "the task " + id + " is not done"
	text = strings.TrimSpace(text)
	switch {
	case row.TakenBy != "" && row.TakenBy != by:
		return Replacement{}, &Error{Conflict, cannot, row.TakenBy + " has taken it", "ask " + row.TakenBy + ", or take it over: freshseal task take " + id}
	case row.Ask != "" && text == "":
		return Replacement{}, invalid(cannot, "nothing was given back", "give "+row.Ask)
	case len(text) > mostAnswer, !utf8.ValidString(text):
		return Replacement{}, invalid(cannot, "what was given back is not a text of up to 64 kB", "give "+row.Ask)
	}
	if row.Capture == string(procedure.Request) {
		if err := s.checkRequest(ctx, row.ReplacementID, text, cannot); err != nil {
			return Replacement{}, err
		}
	}
	if len(row.Domains.V) > 0 {
		if err := s.endProof(ctx, row, by); err != nil {
			return Replacement{}, err
		}
		return s.Replacement(ctx, idText(row.ReplacementID))
	}
	if row.Seen != procedure.NotSeen {
		said, err := s.unseen(ctx, row)
		if err != nil {
			return Replacement{}, err
		}
		if said != "" {
			return Replacement{}, &Error{Conflict, cannot, "the wire decides, and " + said, "finish it on the device, or wait until it has restarted: the task ends by itself then"}
		}
	}
	if err := s.endTask(ctx, row, text, by); err != nil {
		return Replacement{}, err
	}
	return s.Replacement(ctx, idText(row.ReplacementID))
}

// checkRequest says what is wrong with a request that a person made.
func (s *Service) checkRequest(ctx context.Context, replacementID int64, text, cannot string) error {
	made, err := request.Parse([]byte(text))
	if err != nil {
		return invalid(cannot, "what was given back is no request: "+err.Error(), "copy it from BEGIN CERTIFICATE REQUEST to END CERTIFICATE REQUEST")
	}
	r, err := s.store.Replacement(ctx, replacementID)
	if err != nil {
		return err
	}
	if wrong := finding.Errors(request.Check(r.Plan.V, made)); len(wrong) > 0 {
		return invalid("the request is not what was planned", wrong[0].What, "have the device make it again: "+wrong[0].Remedy)
	}
	return nil
}

// unseen says what the wire shows instead of what a task wants to be seen.
func (s *Service) unseen(ctx context.Context, row store.Task) (string, error) {
	r, err := s.store.Replacement(ctx, row.ReplacementID)
	if err != nil {
		return "", err
	}
	slot, err := s.store.Slot(ctx, row.Device, row.Slot)
	if err != nil {
		return "", err
	}
	reading, err := s.read(ctx, slot)
	if err != nil {
		return "", err
	}
	if row.Seen == procedure.SeenOld {
		return notOld(r, reading), nil
	}
	return notNew(r, reading), nil
}

// notNew says what is served instead of the new leaf.
func notNew(r store.Replacement, reading wire.Reading) string {
	switch leaf := reading.Leaf(); {
	case leaf == nil:
		return reading.Why.What
	case leaf.SHA256 != r.NewSHA256:
		return fmt.Sprintf("it serves “%s” (SHA-256 %s…) instead of the new leaf", leaf.ShortName(), leaf.SHA256[:16])
	}
	return ""
}

// notOld says what is served instead of the leaf from before; where that is not
// known, anything but the new one will do.
func notOld(r store.Replacement, reading wire.Reading) string {
	switch leaf := reading.Leaf(); {
	case leaf == nil && r.OldSHA256 == "":
		return ""
	case leaf == nil:
		return reading.Why.What
	case leaf.SHA256 == r.OldSHA256, r.OldSHA256 == "" && leaf.SHA256 != r.NewSHA256:
		return ""
	default:
		return fmt.Sprintf("it serves “%s” (SHA-256 %s…) instead of the old leaf", leaf.ShortName(), leaf.SHA256[:16])
	}
}

// endTask ends a task as done.
func (s *Service) endTask(ctx context.Context, row store.Task, text, by string) error {
	step := store.Step{ID: row.StepID, ReplacementID: row.ReplacementID, EndedAt: s.moment(), OK: true, Output: "done by " + by}
	if row.Capture != "" {
		if err := s.keepCaptured(&step, map[string]procedure.Value{row.Capture: procedure.ContentValue([]byte(text + "\n"))}); err != nil {
			return err
		}
	}
	return s.closeTask(ctx, row, step, replacement.Event{Kind: replacement.Arrived})
}

func (s *Service) closeTask(ctx context.Context, row store.Task, step store.Step, e replacement.Event) error {
	action, err := s.store.EndTask(ctx, step, e)
	if errors.Is(err, store.ErrNotFound) {
		return taskOver(taskText(row.StepID), row.ReplacementID)
	}
	if err != nil {
		return err
	}
	s.options.Log.Info("task ended", "task", taskText(row.StepID), "replacement", idText(row.ReplacementID), "how", e.Kind, "said", step.Output)
	s.watchers.tell(row.ReplacementID)
	s.drive(row.ReplacementID, action)
	return nil
}

// watchTasks looks at the wire for those who work by hand, and ends the tasks
// whose time is over, until the service is stopped.
func (s *Service) watchTasks() {
	tick := time.NewTicker(taskEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-s.stopping.Done():
			return
		}
		err := s.seekProofs(s.stopping) // what was cancelled may have had the task for others
		rows, failed := s.store.OpenTasks(s.stopping)
		err = errors.Join(err, failed)
		for _, row := range rows {
			err = errors.Join(err, s.watchTask(s.stopping, row))
		}
		if err != nil && s.stopping.Err() == nil {
			s.options.Log.Warn("looking after tasks", "error", err)
		}
	}
}

func (s *Service) watchTask(ctx context.Context, row store.Task) error {
	if len(row.Domains.V) > 0 {
		return nil // the signer decides how long it waits
	}
	if s.now().After(row.DueAt.Time) {
		why := fmt.Sprintf("nobody did the step “%s” by %s; see on the device how far it is", row.Name, row.DueAt.Format(time.DateTime+" MST"))
		step := store.Step{ID: row.StepID, ReplacementID: row.ReplacementID, EndedAt: s.moment(), Why: "the time is over"}
		return unlessOver(s.closeTask(ctx, row, step, replacement.Event{Kind: replacement.Expired, Why: why}))
	}
	if row.Seen == procedure.NotSeen {
		return nil
	}
	said, err := s.unseen(ctx, row)
	if err != nil || said != "" {
		return err
	}
	return unlessOver(s.endTask(ctx, row, "", theWire))
}

// unlessOver passes over that somebody else ended a task in the meantime.
func unlessOver(err error) error {
	var known *Error
	if errors.As(err, &known) && known.Kind == Conflict {
		return nil
	}
	return err
}
