package standin

import (
	"bufio"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"mvdan.cc/sh/v3/interp"
)

// Boxes that no built-in family is for: their procedures are examples of the documents.
const (
	TideGauge    Kind = "tide gauge"    // a shell tool that knows one step back
	SignalMast   Kind = "signal mast"   // a menu whose change goes back by itself unless it is confirmed
	TicketOffice Kind = "ticket office" // JSON, with a task for each change
)

func init() { webKinds[TicketOffice] = ticketOffice }

// requested is the subject and the names that lines such as "name = gate" ask for.
func requested(lines io.Reader) (subject pkix.Name, names []string) {
	for s := bufio.NewScanner(lines); s.Scan(); {
		switch key, value, _ := strings.Cut(s.Text(), "="); strings.TrimSpace(key) {
		case "common name":
			subject.CommonName = strings.TrimSpace(value)
		case "organization":
			subject.Organization = some(strings.TrimSpace(value))
		case "names":
			names = strings.Split(value, ",")
		}
	}
	return subject, names
}

// gaugectl is the tool of a tide gauge. What it does not take, it refuses with exit code 2.
func (r *Running) gaugectl(h interp.HandlerContext, _, words []string) error {
	switch strings.Join(words, " ") {
	case "show":
		w := r.shows()
		fmt.Fprintf(h.Stdout, "in use:   %s\nprevious: %s\n", orNone(w.Now), orNone(w.Previous))
	case "request":
		subject, names := requested(h.Stdin)
		der, err := r.nextRequest(subject, names, "")
		if err != nil {
			return err
		}
		h.Stdout.Write(pemOf("CERTIFICATE REQUEST", der))
	case "import":
		chain, err := io.ReadAll(io.LimitReader(h.Stdin, 1<<20))
		if err == nil {
			err = r.take(chain)
		}
		if err != nil {
			fmt.Fprintln(h.Stderr, "gaugectl: not accepted:", err)
			return interp.ExitStatus(2)
		}
		return r.use()
	case "previous":
		return r.goBackWeb()
	default:
		return errors.New("usage: gaugectl show | request | import | previous")
	}
	return nil
}

// What a signal mast goes back to unless a change is confirmed.
const (
	trialChain = "/var/web/trial.pem"
	trialKey   = "/var/web/trial.key"
)

// onTrial is how long a signal mast waits for the confirmation of a change, in parts of its time.
const onTrial = 20

// mastTrial is the change of a signal mast that is not confirmed yet.
type mastTrial struct {
	lock  sync.Mutex
	timer *time.Timer
}

// mastMenu is the menu of a signal mast.
func (r *Running) mastMenu(t *terminal) error {
	t.say("Sunder Mast 3\n")
	if r.faulty().Silent {
		_, err := t.line()
		return err
	}
	for {
		prompt := "\n r) request  i) install  c) confirm  b) back to the one before  s) show  q) quit\nmast> "
		if r.faulty().OtherPrompt {
			prompt = "\nLicence expired. Go on? "
		}
		choice, err := t.ask(prompt)
		if err != nil {
			return err
		}
		switch choice {
		case "q":
			return nil
		case "r":
			err = r.mastRequest(t)
		case "i":
			r.watched("install", func() { err = r.mastInstall(t) })
		case "c":
			r.watched("confirm", func() { r.mastConfirm(t) })
		case "b":
			r.watched("back", func() { r.mastConfirm(t); err = r.goBackWeb() })
		case "s":
			w := r.shows()
			t.say("In use: %s\nBefore: %s\n", orNone(w.Now), orNone(w.Previous))
		default:
			t.say("There is no such choice.\n")
		}
		if errors.Is(err, errHungUp) {
			return err
		} else if err != nil {
			t.say("Refused: %v\n", err)
		}
	}
}

func (r *Running) mastRequest(t *terminal) error {
	answers, err := t.fields([2]string{"Common name", ""}, [2]string{"Organization", ""}, [2]string{"Names", ""})
	if err != nil {
		return err
	}
	der, err := r.nextRequest(pkix.Name{CommonName: answers[0], Organization: some(answers[1])},
		strings.Split(answers[2], ","), "")
	if err == nil {
		t.say("%s", pemOf("CERTIFICATE REQUEST", der))
	}
	return err
}

// mastInstall puts a chain in use until the timer ends, unless the change is confirmed before.
func (r *Running) mastInstall(t *terminal) error {
	t.say("Paste leaf and intermediates, then a line with a dot.\n")
	var chain strings.Builder
	for {
		line, err := t.line()
		if err != nil {
			return err
		}
		if line == "." {
			break
		}
		chain.WriteString(line + "\n")
	}
	if err := r.take([]byte(chain.String())); err != nil {
		return err
	}
	oldChain, err1 := r.root.ReadFile(inside(CertificateFile))
	oldKey, err2 := r.root.ReadFile(inside(KeyFile))
	if err := errors.Join(err1, err2, r.lay(map[string][]byte{trialChain: oldChain, trialKey: oldKey}),
		r.use()); err != nil {
		return err
	}
	r.mast.lock.Lock()
	defer r.mast.lock.Unlock()
	r.mast.timer = time.AfterFunc(onTrial*r.Restart, func() { r.pagesUse(trialChain, trialKey, false) })
	t.say("On trial: it goes back unless it is confirmed.\n")
	return nil
}

func (r *Running) mastConfirm(t *terminal) {
	r.mast.lock.Lock()
	defer r.mast.lock.Unlock()
	if r.mast.timer == nil || !r.mast.timer.Stop() {
		t.say("Nothing is on trial.\n")
		return
	}
	r.mast.timer = nil
	t.say("Confirmed.\n")
}

// ticketOffice has a task for each thing that it is asked to do.
func ticketOffice(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	type task struct {
		began  time.Time
		result map[string]string
	}
	var lock sync.Mutex
	var tasks []task
	begin := func(w http.ResponseWriter, result map[string]string) {
		lock.Lock()
		defer lock.Unlock()
		tasks = append(tasks, task{time.Now(), result})
		writeJSON(w, http.StatusAccepted, map[string]string{"task": strconv.Itoa(len(tasks))})
	}
	in := r.tokens(mux, "/v2/tokens", "X-Office-Token")
	mux.HandleFunc("GET /v2/certificate", in(func(w http.ResponseWriter, _ *http.Request) {
		out := r.shows().asJSON()
		out["pending"] = r.pending()
		writeJSON(w, http.StatusOK, out)
	}))
	mux.HandleFunc("GET /v2/tasks/{id}", in(func(w http.ResponseWriter, call *http.Request) {
		lock.Lock()
		defer lock.Unlock()
		n, _ := strconv.Atoi(call.PathValue("id"))
		if n < 1 || n > len(tasks) {
			writeJSON(w, http.StatusNotFound, map[string]string{"error": "no such task"})
			return
		}
		done := r.progress(tasks[n-1].began)
		out := map[string]any{"state": "running", "percent": done}
		if done == 100 {
			out["state"] = "done"
			for key, value := range tasks[n-1].result {
				out[key] = value
			}
		}
		writeJSON(w, http.StatusOK, out)
	}))
	mux.HandleFunc("POST /v2/requests", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct {
			Name, Organization string
			Names              []string
		}
		err := readJSON(call, &in)
		var der []byte
		if err == nil {
			der, err = r.nextRequest(pkix.Name{CommonName: in.Name, Organization: some(in.Organization)}, in.Names, "")
		}
		if err != nil {
			refuseJSON(w, err)
			return
		}
		begin(w, map[string]string{"request": string(pemOf("CERTIFICATE REQUEST", der))})
	}))
	mux.HandleFunc("POST /v2/imports", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Chain string }
		err := readJSON(call, &in)
		if err == nil {
			err = r.take([]byte(in.Chain))
		}
		if err != nil {
			begin(w, map[string]string{"state": "failed", "error": err.Error()})
			return
		}
		if err := r.use(); err != nil {
			refuseJSON(w, err)
			return
		}
		begin(w, nil)
	}))
	mux.HandleFunc("POST /v2/reversals", in(func(w http.ResponseWriter, _ *http.Request) {
		if err := r.goBackWeb(); err != nil {
			refuseJSON(w, err)
			return
		}
		begin(w, nil)
	}))
	return mux
}
