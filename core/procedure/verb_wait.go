package procedure

import (
	"time"

	"github.com/goccy/go-yaml/ast"
)

// Wait lets time pass:
//
//   - wait: 10s
type Wait struct {
	plainVerb
	Pause time.Duration
}

// WaitAct is a time to wait.
type WaitAct struct{ Pause time.Duration }

var _ = register("let time pass", func() Verb { return &Wait{} })

func (*Wait) Word() string                 { return "wait" }
func (v *Wait) Title() string              { return "wait " + v.Pause.String() }
func (*Wait) Link() string                 { return "" }
func (v *Wait) read(r *reader, n ast.Node) { v.Pause = r.duration(n) }

// Limits leave room for the pause itself.
func (v *Wait) Limits() (usual, most time.Duration) { return v.Pause + DefaultLimit, 3 * time.Hour }

// Expand gives a *WaitAct.
func (v *Wait) Expand(*Scope) (Act, error) { return &WaitAct{v.Pause}, nil }

// Line is the time.
func (a *WaitAct) Line() string { return a.Pause.String() }

// Detail is empty.
func (a *WaitAct) Detail() string { return "" }
