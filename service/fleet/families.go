package fleet

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"freshseal/core/judgement/discovery"
	"freshseal/core/language/library"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/service/problem"
)

// families are the procedures in use: the built-in ones and those of a folder, which is reloaded when something in it
// changes.
type families struct {
	folder string
	now    atomic.Pointer[map[string]library.Source] // nil: the built-in ones alone
	lock   sync.Mutex
	seen   string // what the folder looked like; lock guards it
}

// familiesEvery is the interval between two checks of the folder.
const familiesEvery = 2 * time.Second

// all returns the procedures by name, including those that cannot be used.
func (f *families) all() map[string]library.Source {
	if loaded := f.now.Load(); loaded != nil {
		return *loaded
	}
	return library.Builtin()
}

// named returns one of them. Where there is no folder, it reads no other one: all of them take a tenth of a second.
func (f *families) named(name string) (library.Source, bool) {
	if loaded := f.now.Load(); loaded != nil {
		source, known := (*loaded)[name]
		return source, known
	}
	return library.Named(name)
}

// openFamilies loads the folder. A missing folder is logged and stops nothing: it may appear later.
func (s *Service) openFamilies(folder string) {
	s.families.folder = folder
	s.readFamilies()
}

// watchFamilies reloads the folder when something in it changes.
func (s *Service) watchFamilies() {
	tick := time.NewTicker(familiesEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			s.readFamilies()
		case <-s.stopping.Done():
			return
		}
	}
}

func (s *Service) readFamilies() {
	f := &s.families
	if f.folder == "" {
		return
	}
	f.lock.Lock()
	defer f.lock.Unlock()
	looks := lookOf(f.folder)
	if looks == f.seen {
		return
	}
	f.seen = looks
	all, notes, err := library.Load(os.DirFS(f.folder))
	if err != nil {
		s.log.Warn("the folder of procedures cannot be read", "folder", f.folder, "error", err)
	}
	for _, note := range notes {
		s.log.Warn("procedures", "note", note)
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if source := all[name]; !source.Usable() {
			s.log.Warn("a procedure cannot be used", "procedure", name, "why", source.Why())
		}
	}
	f.now.Store(&all)
	s.readDefaults()
}

// defaultsFile has further rules by which factory certificates are recognized.
const defaultsFile = "known-defaults.yaml"

func (s *Service) readDefaults() {
	text, err := os.ReadFile(filepath.Join(s.families.folder, defaultsFile))
	var rules discovery.Defaults
	if err == nil {
		rules, err = discovery.ReadDefaults(text)
	} else if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	if err == nil {
		err = s.monitor.Surveys.Know(s.stopping, rules)
	}
	if err != nil && s.stopping.Err() == nil {
		s.log.Warn("the known factory defaults cannot be read; the ones from before are in use", "file", defaultsFile,
			"error", err)
	}
}

// lookOf returns the names, sizes and times of a folder's files, to detect a change.
func lookOf(folder string) string {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return err.Error()
	}
	var b strings.Builder
	for _, entry := range entries {
		info, err := entry.Info()
		if err == nil && info.Mode()&fs.ModeSymlink != 0 {
			info, err = os.Stat(folder + "/" + entry.Name())
		}
		if err == nil {
			fmt.Fprintln(&b, entry.Name(), info.Size(), info.ModTime().UnixNano())
		}
	}
	return b.String()
}

// Procedure returns a procedure by its name, even one that cannot be used.
func (s *Service) Procedure(name string) (library.Source, error) {
	s.readFamilies() // what was edited just now counts
	p, ok := s.families.named(name)
	if !ok {
		return p, problem.New(problem.NotFound, fmt.Sprintf("no procedure is called %q", name), "", "",
			next.ListProcedures.On(""))
	}
	return p, nil
}

// Family returns a usable procedure by its name.
func (s *Service) Family(name string) (library.Source, error) {
	p, err := s.Procedure(name)
	switch {
	case err != nil && s.families.folder != "":
		return p, problem.New(problem.NotFound, fmt.Sprintf("no procedure is called %q", name),
			"no file in the folder "+s.families.folder+" defines it", "put its file back, or give the device "+
				"another family")
	case err != nil:
		return p, err
	case !p.Usable():
		return p, problem.Reject(fmt.Sprintf("the procedure %s cannot be used", name), p.Why(),
			"correct the file; it is reloaded automatically")
	}
	return p, nil
}

// Procedures returns all procedures by name. A family that devices name and no file describes is listed with that
// problem.
func (s *Service) Procedures() []library.Source {
	all := maps.Clone(s.families.all())
	for name := range s.Families() {
		if _, ok := all[name]; !ok && name != "" {
			gone := library.Source{Procedure: procedure.Procedure{Name: name, Title: "no file describes this " +
				"family any more"}}
			gone.Faults = []procedure.Fault{{Line: 1, Column: 1, What: "its file is not there", Instead: "put " +
				name + ".procedure.yaml back into the folder"}}
			all[name] = gone
		}
	}
	var out []library.Source
	for _, name := range slices.Sorted(maps.Keys(all)) {
		out = append(out, all[name])
	}
	return out
}

// Families returns how many devices are of each family.
func (s *Service) Families() map[string]int { return s.store.Devices.CountFamilies() }
