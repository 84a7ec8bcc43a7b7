package parts

import (
	"fmt"
	"time"

	"freshseal/standin"
)

// Progress returns how much of a task is done, in percent: it takes a while, and for ever with
// that fault.
func Progress(r *standin.Running, began time.Time) int {
	if r.Faulty().NeverDone {
		return 40
	}
	return min(100, 1+int(100*time.Since(began)/max(r.Restart, time.Millisecond)))
}

// BeginTask begins a task, which ends by itself, and returns its number.
func BeginTask(r *standin.Running, ends func() error) string {
	r.Webs.Lock.Lock()
	defer r.Webs.Lock.Unlock()
	if r.Webs.Tasks == nil {
		r.Webs.Tasks = map[string]*standin.Task{}
	}
	id, t := fmt.Sprint(100+len(r.Webs.Tasks)), &standin.Task{Began: time.Now()}
	r.Webs.Tasks[id] = t
	if f := r.Faulty(); !f.NeverDone && !f.Forgets {
		r.Work.Go(func() {
			time.Sleep(r.Restart)
			err := ends()
			r.Webs.Lock.Lock()
			defer r.Webs.Lock.Unlock()
			t.Ended, t.Err = true, err
		})
	}
	return id
}

// TaskState returns how a task stands: running, done or failed, and how much of it is done.
func TaskState(r *standin.Running, id string) (state string, percent int) {
	r.Webs.Lock.Lock()
	defer r.Webs.Lock.Unlock()
	t := r.Webs.Tasks[id]
	switch {
	case t == nil || r.Faulty().Forgets:
		return "unknown", 0
	case !t.Ended:
		return "running", min(99, Progress(r, t.Began))
	case t.Err != nil:
		return "failed", 100
	}
	return "done", 100
}
