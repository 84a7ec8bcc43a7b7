package replace

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

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
	"freshseal/core/language/verb"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/engine"
	"freshseal/service/monitor"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/store"
)

// theWire answers tasks whose end is seen on the wire.
const theWire = "the wire"

const mostAnswer = 64 << 10

func taskText(stepID int64) string { return "t" + strconv.FormatInt(stepID, 10) }

func showTask(row store.Task) contract.Task {
	out := contract.Task{ID: taskText(row.StepID), Replacement: replacement.Name(row.ReplacementID),
		Device: row.Device, Slot: row.Slot, Stage: row.Section, Name: row.Name,
		Text: row.Text, Copy: []contract.TaskValue{}, Files: []contract.TaskFile{}, Ask: row.Ask, Key: row.Key,
		Seen: row.Seen, BeganAt: row.BeganAt.Time, DueAt: row.DueAt.Time,
		TakenBy: row.TakenBy, Notes: []contract.TaskNote{}, Domains: row.Domains.V, Open: row.Open}
	if row.Open {
		out.Actions = []next.Action{next.FinishTask.On(out.ID), next.TakeTask.On(out.ID)}
	}
	if row.Open && row.Section == store.Clearing {
		out.Actions = append([]next.Action{next.Clear.On(out.Replacement)}, out.Actions...)
	}
	for _, each := range row.Copy.V {
		out.Copy = append(out.Copy, contract.TaskValue{Label: each.Label, Text: each.Text})
	}
	for _, each := range row.Files.V {
		file := contract.TaskFile{Name: each.Name, Secret: each.Secret}
		if !each.Secret {
			sum := sha256.Sum256(each.Content)
			file.Size, file.SHA256 = len(each.Content), hex.EncodeToString(sum[:])
		}
		out.Files = append(out.Files, file)
	}
	for _, n := range row.Notes.V {
		out.Notes = append(out.Notes, contract.TaskNote(n))
	}
	return out
}

// List returns the tasks that wait for a person, oldest first.
func (s *Tasks) List(ctx context.Context, of string, p paging.Page) ([]contract.Task, string, error) {
	id, err := taskFilter(of)
	if err != nil {
		return nil, "", err
	}
	rows, next, err := s.store.Tasks.Page(ctx, id, p.Rows())
	out := make([]contract.Task, 0, len(rows))
	for _, row := range rows {
		out = append(out, showTask(row))
	}
	return out, next, p.Wrong(err)
}

// Count returns how many tasks wait for a person, of one replacement if it is named.
func (s *Tasks) Count(ctx context.Context, of string) (int, error) {
	id, err := taskFilter(of)
	if err != nil {
		return 0, err
	}
	return s.store.Tasks.Count(ctx, id)
}

func taskFilter(of string) (int64, error) {
	if of == "" {
		return 0, nil
	}
	return idNumber(of)
}

// Get shows one task.
func (s *Tasks) Get(ctx context.Context, id string) (contract.Task, error) {
	row, err := s.row(ctx, id)
	return showTask(row), err
}

func (s *Tasks) row(ctx context.Context, id string) (store.Task, error) {
	digits, ok := strings.CutPrefix(id, "t")
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || !ok {
		n = 0
	}
	row, err := s.store.Tasks.Get(ctx, n)
	return row, problem.Missing(err, next.ListTasks, "no task is called %q", id)
}

// open returns a task that is not done yet.
func (s *Tasks) open(ctx context.Context, id string) (store.Task, error) {
	row, err := s.row(ctx, id)
	if err == nil && !row.Open {
		err = taskOver(id, row.ReplacementID)
	}
	return row, err
}

func taskOver(id string, replacementID int64) error {
	return problem.New(problem.Conflict, fmt.Sprintf("the task %s has ended", id), "it is done, or its replacement "+
		"took another course", "", next.ShowReplacement.On(replacement.Name(replacementID)))
}

// File returns a file of a task. A key is returned only while the task is open, to those who may do it, and the audit
// log records to whom.
func (s *Tasks) File(ctx context.Context, id, name, by string, may bool) ([]byte, error) {
	row, err := s.row(ctx, id)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(row.Files.V, func(f store.TaskFile) bool { return f.Name == name })
	if i < 0 {
		return nil, problem.New(problem.NotFound, fmt.Sprintf("the task %s has no file %q", id, name), "", "",
			next.ShowTask.On(id))
	}
	file := row.Files.V[i]
	switch {
	case !file.Secret:
		return file.Content, nil
	case !may:
		return nil, problem.New(problem.Refused, name+" was not given", "it is a private key, and only operators "+
			"may download it", "ask an operator")
	case !row.Open:
		return nil, taskOver(id, row.ReplacementID)
	}
	if err := s.audit.Record(ctx, by, "download the private key of "+id, name+", of "+
		replacement.Name(row.ReplacementID)); err != nil {
		return nil, err
	}
	return s.box.Open(engine.TaskFilePurpose(row.ReplacementID, name), file.Content)
}

// Take assigns a task to a user, whoever had it before.
func (s *Tasks) Take(ctx context.Context, id, by string) (contract.Task, error) {
	row, err := s.open(ctx, id)
	if err != nil {
		return contract.Task{}, err
	}
	if err := s.store.Tasks.Take(ctx, row.StepID, by); err != nil {
		return contract.Task{}, err
	}
	return s.Get(ctx, id)
}

// Note adds a note to a task.
func (s *Tasks) Note(ctx context.Context, id, text, by string) (contract.Task, error) {
	row, err := s.open(ctx, id)
	if err != nil {
		return contract.Task{}, err
	}
	if text = strings.TrimSpace(text); text == "" || len(text) > 2000 || len(row.Notes.V) >= 100 {
		return contract.Task{}, problem.Reject("the note was not kept", "it is empty or longer than 2000 "+
			"characters, or the task has 100 notes", "shorten it")
	}
	if err := s.store.Tasks.AddNote(ctx, row.StepID, store.Note{At: s.now(), By: by, Text: text}); err != nil {
		return contract.Task{}, err
	}
	return s.Get(ctx, id)
}

// Answer accepts what a person provides, or that the task is done, and resumes the replacement. If the slot must serve
// something, it is read first; a request is compared with its plan while the person is still at the device.
func (s *Tasks) Answer(ctx context.Context, id, text, by string) (contract.Replacement, error) {
	row, err := s.open(ctx, id)
	if err != nil {
		return contract.Replacement{}, err
	}
	cannot := "the task " + id + " is not done"
	text = strings.TrimSpace(text)
	switch {
	case row.TakenBy != "" && row.TakenBy != by:
		return contract.Replacement{}, problem.New(problem.Conflict, cannot, row.TakenBy+" has taken it",
			"ask "+row.TakenBy+", or take it over", next.TakeTask.On(id))
	case row.Ask != "" && text == "":
		return contract.Replacement{}, problem.Reject(cannot, "the result is missing", "give "+row.Ask)
	case len(text) > mostAnswer, !utf8.ValidString(text):
		return contract.Replacement{}, problem.Reject(cannot, "the result is not a text of up to 64 kB",
			"give "+row.Ask)
	}
	if row.Key {
		if text, err = s.checkKey(ctx, row, text, cannot); err != nil {
			return contract.Replacement{}, err
		}
	}
	if row.Capture == string(procedure.Request) {
		if err := s.checkRequest(ctx, row.ReplacementID, text, cannot); err != nil {
			return contract.Replacement{}, err
		}
	}
	if len(row.Domains.V) > 0 {
		if err := (proofs{s.Service}).endProof(ctx, row, by); err != nil {
			return contract.Replacement{}, err
		}
		return s.Replacement(ctx, replacement.Name(row.ReplacementID))
	}
	if row.After {
		if err := s.endAfter(ctx, row, by); err != nil {
			return contract.Replacement{}, err
		}
		return s.Replacement(ctx, replacement.Name(row.ReplacementID))
	}
	if row.Seen != verb.NotSeen {
		said, err := s.unseen(ctx, row)
		if err != nil {
			return contract.Replacement{}, err
		}
		if said != "" {
			return contract.Replacement{}, problem.New(problem.Conflict, cannot, "the slot is read to see whether "+
				"it is done, and "+said, "finish it on the device, or wait for the restart: the task then ends "+
				"by itself")
		}
	}
	if err := s.end(ctx, row, text, by); err != nil {
		return contract.Replacement{}, err
	}
	return s.Replacement(ctx, replacement.Name(row.ReplacementID))
}

// endAfter ends a task of a replacement that has ended: a person removed what was left on the device, or lets Fresh
// Seal onto it, or out of it, to do so.
func (s *Tasks) endAfter(ctx context.Context, row store.Task, by string) error {
	id := row.ReplacementID
	if row.Section == store.Clearing {
		if err := s.audit.Record(ctx, by, "remove by hand what "+replacement.Name(id)+" left on "+row.Device,
			row.Text); err != nil {
			return err
		}
		if err := s.store.Replacements.SetLeftover(ctx, id, "", s.moment(), s.moment()); err != nil {
			return err
		}
		return s.store.Replacements.SetTidied(ctx, []int64{id})
	}
	if err := s.store.Journal.EndStep(ctx, store.Step{ID: row.StepID, ReplacementID: id, EndedAt: s.moment(),
		OK: true, Output: "done by " + by}); err != nil {
		return err
	}
	r, err := s.store.Replacements.Get(ctx, id)
	if err != nil || r.Leftover == "" {
		return err // it was the way out
	}
	s.running.Go(func() {
		if _, err := s.Clear(s.stopping, replacement.Name(id)); err != nil && s.stopping.Err() == nil {
			s.log.Warn("a device is not cleared", "replacement", replacement.Name(id), "error", err)
		}
	})
	return nil
}

// checkRequest returns what is wrong with a request that a person made.
func (s *Tasks) checkRequest(ctx context.Context, replacementID int64, text, cannot string) error {
	made, err := request.Parse([]byte(text))
	if err != nil {
		return problem.Reject(cannot, "the result is not a request: "+err.Error(), "copy it from BEGIN CERTIFICATE "+
			"REQUEST to END CERTIFICATE REQUEST")
	}
	r, err := s.store.Replacements.Get(ctx, replacementID)
	if err != nil {
		return err
	}
	signer, err := s.signing.Signer(ctx, r.Signer)
	if err != nil {
		return err
	}
	if wrong := append(finding.Errors(request.Check(r.Plan.V, made)),
		request.Demanded(request.Compare(r.Plan.V, made, signer.Terms))...); len(wrong) > 0 {
		return problem.Reject("the request differs from the plan", wrong[0].What, "make it again on the device: "+
			wrong[0].Remedy)
	}
	return nil
}

// unseen returns what the wire shows instead of what a task expects.
func (s *Tasks) unseen(ctx context.Context, row store.Task) (string, error) {
	r, err := s.store.Replacements.Get(ctx, row.ReplacementID)
	if err != nil {
		return "", err
	}
	targets, err := s.store.Replacements.Targets(ctx, r.ID)
	if err != nil {
		return "", err
	}
	return s.WrongAt(ctx, targets[r.ID], r.NewSHA256, func(t store.Target, sight monitor.Sight) string {
		if row.Seen == verb.SeenOld {
			return engine.NotOld(t.OldSHA256, r.NewSHA256, sight)
		}
		return engine.NotNew(r.NewSHA256, sight, false)
	})
}

// end ends a task as done.
func (s *Tasks) end(ctx context.Context, row store.Task, text, by string) error {
	step := store.Step{ID: row.StepID, ReplacementID: row.ReplacementID, EndedAt: s.moment(), OK: true,
		Output: "done by " + by}
	if row.Capture != "" {
		given := value.ContentValue([]byte(text + "\n"))
		if row.Key {
			given = value.SecretValue([]byte(text))
		}
		if err := s.KeepCaptured(&step, map[string]value.Value{row.Capture: given}); err != nil {
			return err
		}
	}
	return s.close(ctx, row, step, replacement.Event{Kind: replacement.Arrived})
}

func (s *Tasks) close(ctx context.Context, row store.Task, step store.Step, e replacement.Event) error {
	action, err := s.store.Tasks.End(ctx, step, e)
	if errors.Is(err, store.ErrNotFound) {
		return taskOver(taskText(row.StepID), row.ReplacementID)
	}
	if err != nil {
		return err
	}
	s.log.Info("task ended", "task", taskText(row.StepID), "replacement", replacement.Name(row.ReplacementID), "how",
		e.Kind, "said", step.Output)
	s.Drive(row.ReplacementID, action)
	return nil
}

// watch reads the wire for those who work by hand, and ends the tasks whose time has run out, until the service stops.
func (s *Tasks) watch() {
	tick := time.NewTicker(taskEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-s.stopping.Done():
			return
		}
		err := s.SeekProofs(s.stopping) // what was cancelled may have had the task for others
		rows, failed := s.store.Tasks.Open(s.stopping)
		err = errors.Join(err, failed)
		for _, row := range rows {
			err = errors.Join(err, s.watchOne(s.stopping, row))
		}
		if err != nil && s.stopping.Err() == nil {
			s.log.Warn("looking after tasks", "error", err)
		}
	}
}

func (s *Tasks) watchOne(ctx context.Context, row store.Task) error {
	if row.After {
		return nil // it stays until it is done
	}
	if len(row.Domains.V) > 0 {
		return nil // the signer decides how long it waits
	}
	if s.now().After(row.DueAt.Time) {
		why := fmt.Sprintf("nobody did the step “%s” by %s; check on the device how far it is", row.Name,
			row.DueAt.Format(time.DateTime+" MST"))
		step := store.Step{ID: row.StepID, ReplacementID: row.ReplacementID, EndedAt: s.moment(),
			Why: "the time is over"}
		return unlessOver(s.close(ctx, row, step, replacement.Event{Kind: replacement.Expired, Why: why}))
	}
	if row.Seen == verb.NotSeen {
		return nil
	}
	said, err := s.unseen(ctx, row)
	if err != nil || said != "" {
		return err
	}
	return unlessOver(s.end(ctx, row, "", theWire))
}

// unlessOver ignores that somebody else ended a task in the meantime.
func unlessOver(err error) error {
	var known *problem.Error
	if errors.As(err, &known) && known.Kind == problem.Conflict {
		return nil
	}
	return err
}
