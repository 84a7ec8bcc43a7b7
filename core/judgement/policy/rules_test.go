package policy_test

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
)

// Every rule of a nearer place counts before that of a farther one, and none is lost on the way.
func TestEveryRuleOfTheNearerPlaceCounts(t *testing.T) {
	far, near := filled(1), filled(2)
	if got := far.Under(near); !reflect.DeepEqual(exported(got), exported(near)) {
		t.Errorf("the nearer ones are lost:\n%v\n%v", exported(got), exported(near))
	}
	if got := far.Under(policy.Rules{}); !reflect.DeepEqual(exported(got), exported(far)) {
		t.Errorf("the farther ones are lost:\n%v\n%v", exported(got), exported(far))
	}
}

// filled are rules of which each has a value that says n. Freezes of all places add up, and are left out.
func filled(n int) policy.Rules {
	var r policy.Rules
	v := reflect.ValueOf(&r).Elem()
	for i := range v.NumField() {
		f := v.Field(i)
		if !f.CanSet() || v.Type().Field(i).Name == "Freezes" {
			continue
		}
		switch f.Kind() {
		case reflect.Pointer:
			f.Set(reflect.New(f.Type().Elem()))
			switch e := f.Elem(); e.Kind() {
			case reflect.Int:
				e.SetInt(int64(n))
			case reflect.String:
				e.SetString(fmt.Sprint("rule ", n))
			case reflect.Bool:
				e.SetBool(n == 2)
			}
		case reflect.Slice:
			f.Set(reflect.MakeSlice(f.Type(), 1, 1))
			f.Index(0).SetString(fmt.Sprint("value ", n))
		}
	}
	return r
}

func exported(r policy.Rules) map[string]string {
	out := map[string]string{}
	v := reflect.ValueOf(r)
	for i := range v.NumField() {
		f := v.Field(i)
		if !v.Type().Field(i).IsExported() || v.Type().Field(i).Name == "Freezes" {
			continue
		}
		if f.Kind() == reflect.Pointer && !f.IsNil() {
			f = f.Elem()
		}
		out[v.Type().Field(i).Name] = fmt.Sprint(f.Interface())
	}
	return out
}

func TestThresholdsFollowFromTheRules(t *testing.T) {
	d := policy.Default.Due()
	if d.Renewal != 30*24*time.Hour || d.Margin != 7*24*time.Hour || d.Turnaround != 2*24*time.Hour || d.Chosen ||
		d.WorkingDays != 0 {
		t.Errorf("%+v", d)
	}
	if d = policy.Default.WithSigner(3).Due(); d.Turnaround != 0 || d.WorkingDays != 3 {
		t.Errorf("with a signer: %+v", d)
	}
	thirty := 30
	if d = policy.Default.Under(policy.Rules{RenewalDays: &thirty}).Due(); !d.Chosen {
		t.Error("somebody chose thirty days")
	}
	site := policy.Rules{Windows: []string{"DTSTART:20260105T200000Z\nRRULE:FREQ=WEEKLY\nDURATION:PT2H"}}.Prepared()
	r := policy.Default.WithTimes(policy.Times{Holidays: due.Days{"2026-06-01": true}})
	if d = r.Due(); len(d.Windows) != 0 || !d.Holidays["2026-06-01"] {
		t.Errorf("%+v", d)
	}
	if d = r.Under(site).Due(); len(d.Windows) != 1 {
		t.Errorf("devices are touched in these windows alone: %+v", d)
	}
	ten := 10
	if policy.Default.KeepSigned() != 30 || (policy.Rules{KeepSignedDays: &ten}).KeepSigned() != 10 {
		t.Error("what was signed is kept for 30 days, or as long as a rule says")
	}
	yes, no := true, false
	if policy.Is(nil) || policy.Is(&no) || !policy.Is(&yes) {
		t.Error("a rule says yes where it is set and true")
	}
}

// The least limit counts; none is no limit.
func TestALifetimeIsTheLeastOfItsLimits(t *testing.T) {
	then := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		signer, most int
		public       bool
		want         int
	}{{0, 0, false, 0}, {90, 0, false, 90}, {0, 90, false, 90}, {90, 60, false, 60}, {60, 90, false, 60},
		{90, 90, true, 90},
		{0, 0, true, 200}, {365, 0, true, 200}} {
		if got := policy.Default.Under(policy.Rules{MaxLifetimeDays: &c.most}).Lifetime(c.signer, c.public,
			then); got != c.want {
			t.Errorf("%+v: %d", c, got)
		}
	}
	maxima := policy.PublicMaxima()
	if len(maxima) != 4 || maxima[0].Days != 47 || maxima[3].Days != 398 {
		t.Errorf("%+v", maxima)
	}
}

func TestTooManyWindowsAreRefused(t *testing.T) {
	one := "DTSTART:20260105T200000Z\nDURATION:PT2H"
	freeze := "2026-12-24/2026-12-26 holidays"
	for _, n := range []int{50, 51} {
		var windows, freezes []string
		for range n {
			windows, freezes = append(windows, one), append(freezes, freeze)
		}
		for name, r := range map[string]policy.Rules{"windows": {Windows: windows}, "freezes": {Freezes: freezes}} {
			if err := r.Check(); (err != nil) != (n > 50) || err != nil &&
				!strings.Contains(err.Error(), "more than 50") {
				t.Errorf("%d %s: %v", n, name, err)
			}
		}
	}
}

// A key as long as the rules want is long enough; of a box that can do no better, the leaf alone is let off.
func TestKeysAreAsLongAsTheRulesWant(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	leaf := root.Leaf(t, "gate.example")
	path := []*cert.Certificate{leaf.Certificate, root.Certificate}
	for bits, want := range map[int]int{256: 0, 257: 2} {
		r := policy.Default.Under(policy.Rules{MinECBits: &bits})
		if found := r.Judge(path); len(found) != want {
			t.Errorf("at least %d bits: %+v", bits, found)
		}
	}
	bits, yes := 384, true
	found := policy.Default.Under(policy.Rules{MinECBits: &bits, WeakKeys: &yes}).Judge(path)
	if len(found) != 2 || found[0].Severity != finding.Warning || found[1].Severity != finding.Error {
		t.Errorf("%+v", found)
	}
}
