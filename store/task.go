package store

import (
	"context"
	"time"

	"freshseal/core/language/answer"
	"freshseal/core/language/verb"
	"freshseal/core/replacement"
	"freshseal/store/issuance"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Task is a step that a person does.
type Task struct {
	StepID        int64                   `db:"step_id"`
	ReplacementID int64                   `db:"replacement_id"`
	Copy          JSON[[]answer.Labelled] `db:"copy"`
	Files         JSON[[]TaskFile]        `db:"files"`
	Ask           string                  `db:"ask"`
	Key           bool                    `db:"is_key"` // what is asked for is a private key
	Capture       string                  `db:"capture"`
	Seen          verb.Sight              `db:"seen"`
	DueAt         Moment                  `db:"due_at"`
	TakenBy       string                  `db:"taken_by"`
	Notes         JSON[[]Note]            `db:"notes"`
	Domains       JSON[[]string]          `db:"domains"` // that it proves to the signer

	Section string `db:"section"` // of its step
	Name    string `db:"name"`
	Text    string `db:"text"`
	BeganAt Moment `db:"began_at"`
	Open    bool   `db:"open"`
	After   bool   `db:"after"` // its replacement is over
	Device  string `db:"device"`
	Slot    string `db:"slot"`
}

// TaskFile is a file to upload to the device.
type TaskFile struct {
	Name    string
	Content []byte // sealed where it is secret
	Secret  bool   `json:",omitempty"`
}

// Note is a note on a task.
type Note struct {
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	Text string    `json:"text"`
}

// Clearing is the section of the task to remove what is left on a device; it is open for as long as something is.
const Clearing = "clearing"

const taskRows = `SELECT task.*, step.section, step.name, iif(step.section = '` + Clearing +
	`', replacement.leftover, step.text) AS text, step.began_at, device.name AS device, slot.name AS slot,
	CASE WHEN replacement.state IN ('sealed', 'reverted', 'cancelled', 'closed')
		THEN step.section = '` + Clearing +
	`' AND replacement.leftover <> '' OR step.section = 'around' AND step.ended_at = 0
		ELSE step.ended_at = 0 AND replacement.state = 'waiting'
		AND replacement.waiting_for IN ('person', 'validation') END AS open,
	replacement.state IN ('sealed', 'reverted', 'cancelled', 'closed') AS after
	FROM task JOIN step ON step.id = task.step_id JOIN replacement ON replacement.id = task.replacement_id
	JOIN device ON device.id = replacement.device_id JOIN slot ON slot.id = replacement.slot_id `

func addTask(ctx context.Context, tx *sqlx.Tx, t Task) error {
	t.Notes.V = []Note{}
	if t.Domains.V == nil {
		t.Domains.V = []string{}
	}
	_, err := tx.NamedExecContext(ctx, `INSERT INTO task (step_id, replacement_id, copy, files, ask, is_key, capture,
		seen, due_at, notes, domains)
		VALUES (:step_id, :replacement_id, :copy, :files, :ask, :is_key, :capture, :seen, :due_at, :notes, :domains)`,
		t)
	return err
}

var taskList = sqlite.List[Task]{
	Columns: `*`, From: `(` + taskRows + `)`, Natural: "id",
	Orders: map[string][]string{"id": {"step_id"}, "name": {"name", "step_id"}, "slot": {"device", "slot", "step_id"},
		"due_at": {"due_at", "step_id"}, "taken_by": {"taken_by", "step_id"}},
	Keyed: func(t Task) map[string]any {
		return map[string]any{"step_id": t.StepID, "name": t.Name, "device": t.Device, "slot": t.Slot,
			"due_at": t.DueAt.Milliseconds(), "taken_by": t.TakenBy}
	},
}

var isOpen = sqlite.Where("open")

// Page returns a page of the tasks that wait for somebody, oldest first; those of one
// replacement where its id is not 0.
func (s Tasks) Page(ctx context.Context, replacementID int64, p Page) ([]Task, string, error) {
	return taskList.Page(ctx, s.DB, p, tasksOf(replacementID)...)
}

// Count returns how many tasks wait for somebody.
func (s Tasks) Count(ctx context.Context, replacementID int64) (int, error) {
	return taskList.Count(ctx, s.DB, tasksOf(replacementID)...)
}

func tasksOf(replacementID int64) []sqlite.Narrowing {
	if replacementID == 0 {
		return []sqlite.Narrowing{isOpen}
	}
	return []sqlite.Narrowing{isOpen, sqlite.Where("replacement_id = ?", replacementID)}
}

// Open returns those that wait for somebody, oldest first.
func (s Tasks) Open(ctx context.Context) ([]Task, error) {
	var out []Task
	return out, s.Read.SelectContext(ctx, &out, `SELECT * FROM (`+taskRows+`) WHERE open ORDER BY step_id`)
}

// Get finds one by its step.
func (s Tasks) Get(ctx context.Context, stepID int64) (Task, error) {
	var t Task
	return t, sqlite.Row(s.Read.GetContext(ctx, &t, taskRows+`WHERE task.step_id = ?`, stepID))
}

// Take assigns a task to a user.
func (s Tasks) Take(ctx context.Context, stepID int64, by string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE task SET taken_by = ? WHERE step_id = ?`, by, stepID))
	})
}

// AddNote adds a note to a task.
func (s Tasks) AddNote(ctx context.Context, stepID int64, n Note) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		var notes JSON[[]Note]
		if err := sqlite.Row(tx.GetContext(ctx, &notes, `SELECT notes FROM task WHERE step_id = ?`,
			stepID)); err != nil {
			return err
		}
		notes.V = append(notes.V, n)
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE task SET notes = ? WHERE step_id = ?`, notes, stepID))
	})
}

// ForgetFiles removes what is secret in the files of a replacement's tasks.
func (s Tasks) ForgetFiles(ctx context.Context, replacementID int64) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		var tasks []Task
		if err := tx.SelectContext(ctx, &tasks, `SELECT * FROM (`+taskRows+`) WHERE replacement_id = ?`,
			replacementID); err != nil {
			return err
		}
		for _, t := range tasks {
			forgotten := false
			for i := range t.Files.V {
				if t.Files.V[i].Secret && len(t.Files.V[i].Content) > 0 {
					t.Files.V[i].Content, forgotten = nil, true
				}
			}
			if !forgotten {
				continue
			}
			if err := sqlite.Changed(tx.ExecContext(ctx, `UPDATE task SET files = ? WHERE step_id = ?`, t.Files,
				t.StepID)); err != nil {
				return err
			}
		}
		return nil
	})
}

// openTask is ErrNotFound unless the task waits for somebody.
func openTask(ctx context.Context, tx *sqlx.Tx, stepID int64) error {
	var t Task
	return sqlite.Row(tx.GetContext(ctx, &t, `SELECT * FROM (`+taskRows+`) WHERE open AND step_id = ?`, stepID))
}

// End ends a task's step and lets its replacement take the event, in one
// transaction: what a person gave back is neither lost nor taken twice. A task
// that is not open any more is ErrNotFound.
func (s Tasks) End(ctx context.Context, step Step, e replacement.Event) (action replacement.Action, err error) {
	err = s.change(ctx, func(tx *sqlx.Tx) error {
		if err := openTask(ctx, tx, step.ID); err != nil {
			return err
		}
		if err := s.endStep(ctx, tx, step); err != nil {
			return err
		}
		_, action, err = s.advance(ctx, tx, step.ReplacementID, e, step.EndedAt)
		return err
	})
	return action, err
}

// EndProof ends a task that proved domains to a signer. A task that is not open
// any more is ErrNotFound.
func (s Tasks) EndProof(ctx context.Context, step Step, signer string, domains []string, by string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := openTask(ctx, tx, step.ID); err != nil {
			return err
		}
		for _, domain := range domains {
			if _, err := tx.NamedExecContext(ctx, `INSERT INTO proven (signer, domain, at, by)
				VALUES (:signer, :domain, :at, :by)
				ON CONFLICT (signer, domain) DO UPDATE SET at = excluded.at, by = excluded.by`,
				issuance.Proven{Signer: signer, Domain: domain, At: step.EndedAt, By: by}); err != nil {
				return err
			}
		}
		return s.endStep(ctx, tx, step)
	})
}
