package store

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"sync"
)

// words holds in memory what slots are found by: looking through 100,000 of them there takes some
// milliseconds. It is brought up to date before each search by asking for what changed since.
type words struct {
	lock  sync.Mutex
	seen  int64 // the last change that is in it
	at    map[int64]int
	ids   []int64
	texts []string
}

// slotsWith are the numbers of the slots in whose words a text stands, ascending.
func (s *Store) slotsWith(ctx context.Context, text string) ([]int64, error) {
	w := &s.words
	w.lock.Lock()
	defer w.lock.Unlock()
	var news []struct {
		ID      int64  `db:"slot_id"`
		Words   string `db:"words"`
		Changed int64  `db:"changed"`
	}
	if err := s.read.SelectContext(ctx, &news, `SELECT slot_id, words, changed FROM slot_words WHERE changed > ? ORDER BY changed`, w.seen); err != nil {
		return nil, err
	}
	if w.at == nil {
		w.at = map[int64]int{}
	}
	for _, n := range news {
		w.seen = n.Changed
		if i, known := w.at[n.ID]; known {
			w.texts[i] = n.Words
			continue
		}
		w.at[n.ID] = len(w.ids)
		w.ids, w.texts = append(w.ids, n.ID), append(w.texts, n.Words)
	}
	var out []int64
	for i, each := range w.texts {
		if strings.Contains(each, text) {
			out = append(out, w.ids[i])
		}
	}
	slices.Sort(out)
	return out, nil
}

// found narrows a list to the slots in whose words a text stands. Where they are few they are
// named; where they are many, the words of each row are looked at on the way along the order.
func (s *Store) found(ctx context.Context, text string, count bool) ([]narrowing, error) {
	if text = needle(text); text == "" {
		return nil, nil
	}
	ids, err := s.slotsWith(ctx, text)
	if err != nil {
		return nil, err
	}
	if len(ids) >= dense && !count {
		return []narrowing{{"instr((SELECT words FROM slot_words WHERE slot_id = slot.id), ?) > 0", []any{text}}}, nil
	}
	list, err := json.Marshal(append([]int64{}, ids...))
	return []narrowing{{"slot.id IN (SELECT value FROM json_each(?))", []any{string(list)}}}, err
}

// foundDevices narrows a list to the devices in whose own words a text may stand: those of the slots in whose words it
// does, since the words of a device are among those of its slots. Where they are many, nothing is narrowed.
func (s *Store) foundDevices(ctx context.Context, text string) ([]narrowing, error) {
	if text == "" {
		return nil, nil
	}
	ids, err := s.slotsWith(ctx, strings.ToLower(text))
	if err != nil || len(ids) >= dense {
		return nil, err
	}
	list, err := json.Marshal(append([]int64{}, ids...))
	return []narrowing{{"device.id IN (SELECT device_id FROM slot WHERE id IN (SELECT value FROM json_each(?)))", []any{string(list)}}}, err
}
