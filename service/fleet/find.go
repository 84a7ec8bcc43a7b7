package fleet

import (
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/replacement"
	"freshseal/core/terminal/visible"
	"freshseal/service/paging"
	"freshseal/store"
)

// hitsOfKind is the maximum number of hits of one kind.
const hitsOfKind = 8

// Search looks for a text in everything: names, addresses, serial numbers, fingerprints,
// subjects, owners, tags and notes.
func (s *Lists) Search(ctx context.Context, text string) (contract.Found, error) {
	out := contract.Found{Hits: []contract.Hit{}}
	text = strings.TrimSpace(text)
	if len(text) < 2 {
		return out, nil
	}
	add := func(kind, name string, about ...string) {
		out.Hits = append(out.Hits,
			contract.Hit{Kind: kind, Name: name, About: strings.Join(strings.Fields(strings.Join(about, " ")), " ")})
	}
	some := store.Page{Most: hitsOfKind}
	devices, _, err := s.store.Devices.Page(ctx, DeviceFilter{Text: text}, some)
	if err != nil {
		return out, err
	}
	for _, d := range devices {
		add("device", d.Name, d.Address, d.Site, d.Family)
	}
	slots, _, err := s.store.Slots.Page(ctx, s.moment(), SlotFilter{Text: text}, some)
	if err != nil {
		return out, err
	}
	for _, slot := range slots {
		add("slot", slot.Device+"/"+slot.Name, slot.Subject, slot.Address+":"+strconv.Itoa(slot.Port))
	}
	out.Slots = s.store.Slots.Count(s.moment(), SlotFilter{Text: text})
	if print, is := fingerprint(text); is && len(slots) == 0 {
		earlier, err := s.store.Slots.ThatServed(ctx, print, hitsOfKind)
		if err != nil {
			return out, err
		}
		for _, e := range earlier {
			add("slot", e.Device+"/"+e.Slot, "served it until", e.Until.UTC().Format(time.DateOnly))
		}
	}
	replacements, _, err := s.store.Replacements.Page(ctx, ReplacementFilter{Text: text},
		store.Page{Most: hitsOfKind, Desc: true})
	if err != nil {
		return out, err
	}
	for _, r := range replacements {
		add("replacement", replacement.Name(r.ID), r.Device+"/"+r.Slot, string(r.State))
	}
	facets := s.Facets()
	for _, site := range facets.Sites {
		if strings.Contains(strings.ToLower(site.Value), strings.ToLower(text)) {
			add("site", site.Value, counted(site.Count))
		}
	}
	for _, family := range facets.Families {
		if strings.Contains(family.Value, strings.ToLower(text)) {
			add("family", family.Value, counted(family.Count))
		}
	}
	return out, nil
}

// fingerprint parses a whole SHA-1 or SHA-256 in the forms in which users have it, with colons, blanks and capitals.
func fingerprint(text string) (string, bool) {
	text = strings.ToLower(strings.NewReplacer(":", "", " ", "", "-", "").Replace(text))
	_, err := hex.DecodeString(text)
	return text, err == nil && (len(text) == 2*sha1.Size || len(text) == 2*sha256.Size)
}

func counted(slots int) string {
	if slots == 1 {
		return "1 slot"
	}
	return fmt.Sprintf("%d slots", slots)
}

// Facets returns them, each list by value.
func (s *Lists) Facets() contract.Facets {
	all := s.store.Slots.Facets()
	of := func(facets []store.Facet) []contract.Facet {
		out := make([]contract.Facet, len(facets))
		for i, f := range facets {
			out[i] = contract.Facet(f)
		}
		return out
	}
	return contract.Facets{Sites: of(all.Sites), Families: of(all.Families), Owners: of(all.Owners),
		Tags: of(all.Tags), Signers: of(all.Signers), Issuers: of(all.Issuers), KeyTypes: of(all.KeyTypes),
		Signatures: of(all.Signatures)}
}

// sheetColumns are the columns of a sheet of slots.
var sheetColumns = []string{"condition", "device", "slot", "site", "address", "port", "family", "owner", "tags",
	"expires_at", "act_by", "subject", "issuer", "key_type", "signature", "sha256", "signer", "finding"}

// SlotSheet writes the slots that fit a filter as CSV, in the order of the page.
func (s *Lists) SlotSheet(ctx context.Context, w io.Writer, f SlotFilter, p paging.Page) error {
	if err := CheckFilter(f); err != nil {
		return err
	}
	rows := csv.NewWriter(w)
	rows.Write(sheetColumns)
	for p.Limit = 0; ; {
		some, next, err := s.store.Slots.Page(ctx, s.moment(), f, p.Rows())
		if err != nil {
			return p.Wrong(err)
		}
		for _, row := range some {
			slot := s.summary(row.Slot)
			finding, leaf := "", ""
			if len(slot.Findings) > 0 {
				finding = slot.Findings[0].What
			}
			if len(row.Chain.V) > 0 {
				leaf = row.Chain.V[0]
			}
			record := []string{string(slot.Condition), row.Device, row.Name, row.Site, row.Address,
				strconv.Itoa(row.Port), row.Family, row.Owner, strings.Join(row.Tags.V, " "),
				isoDay(slot.ExpiresAt), isoDay(slot.ActBy), row.Subject, row.Issuer, row.KeyType, row.Signature, leaf,
				row.Signer, finding}
			for i, cell := range record {
				record[i] = visible.Cell(cell)
			}
			rows.Write(record)
		}
		if p.Cursor = next; next == "" {
			rows.Flush()
			return rows.Error()
		}
	}
}

func isoDay(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}
