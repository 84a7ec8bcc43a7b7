package cli

import (
	"context"
	"fmt"
	"freshseal/contract"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
)

// expiring lists what ends besides the certificates of slots.
func (a *app) expiring() *cobra.Command {
	var within int
	c := &cobra.Command{
		Use: "expiring", Short: "List what else expires: intermediates, roots, validations of domains, tokens, " +
			"calendars", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			items, err := listOf[contract.Expiring](ctx, client, "/expiring?within="+strconv.Itoa(within))
			if err != nil {
				return err
			}
			t := table{head: []string{"ends", "kind", "name", "slots", "of"}}
			for _, e := range items {
				t.add(day{&e.EndsAt}, e.Kind, e.Name, strconv.Itoa(e.Slots), e.Of)
			}
			if len(items) == 0 && a.as == "table" {
				put(a.out, "nothing else expires within %d days\n", within)
				return nil
			}
			return a.print(items, t)
		}),
	}
	c.Flags().IntVar(&within, "within", 365, "how many days to look ahead")
	return c
}

// forecast counts the replacements that are to come.
func (a *app) forecast() *cobra.Command {
	var weeks int
	var site string
	var each, public bool
	c := &cobra.Command{
		Use: "forecast", Short: "Count the replacements of the coming years, and the hands that they need",
		Args: cobra.NoArgs,
		Long: "Count the replacements of the coming years: if certificates live as long as now, and under the " +
			"coming longest lives of publicly trusted certificates. Hours are those of people, for guided " +
			"replacements and for devices without a procedure.",
		Example: "  freshseal forecast --weeks 208\n  freshseal forecast --site Mainquay --each-week --as csv",
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			var f contract.Forecast
			if err := client.do(ctx, "GET", v1+"/forecast?"+url.Values{"weeks": {strconv.Itoa(weeks)}, "site": {site},
				"public": {strconv.FormatBool(public)}}.Encode(), nil, &f); err != nil {
				return err
			}
			if each {
				t := table{head: []string{"week", "today", "coming", "automatic", "guided", "outside"}}
				for _, w := range f.Weeks {
					t.add(day{&w.Begins}, total(w.Today), total(w.Coming), strconv.Itoa(w.Coming.Automatic),
						strconv.Itoa(w.Coming.Guided), strconv.Itoa(w.Coming.Outside))
				}
				return a.print(f, t)
			}
			t := table{head: []string{"year", "weeks", "today", "coming", "automatic", "guided", "outside", "hours",
				"people"}}
			for _, y := range f.Years {
				t.add(strconv.Itoa(y.Year), strconv.Itoa(y.Weeks), total(y.Today), total(y.Coming),
					strconv.Itoa(y.Coming.Automatic), strconv.Itoa(y.Coming.Guided), strconv.Itoa(y.Coming.Outside),
					fmt.Sprint(y.HoursComing), fmt.Sprint(y.PeopleComing))
			}
			if err := a.print(f, t); err != nil || a.as != "table" {
				return err
			}
			putln(a.out, "hours: of people each week; people: with 20 hours a week each")
			var rules []string
			for i := len(f.Rules) - 1; i >= 0; i-- {
				if r := f.Rules[i]; r.From.IsZero() || r.From.Year() > 1 {
					from := "so far"
					if r.From.Year() > 1 {
						from = "from " + r.From.Format("2006-01-02")
					}
					rules = append(rules, fmt.Sprintf("%s %d days", from, r.Days))
				}
			}
			put(a.out, "longest lives of publicly trusted certificates: %s\n", strings.Join(rules, ", "))
			for _, t := range f.Took {
				put(a.out, "%s: %d done in the last year, median %g minutes, %g of them of a person\n", t.Hand,
					t.Count, t.Minutes, t.PersonMinutes)
			}
			return nil
		}),
	}
	c.Flags().IntVar(&weeks, "weeks", 104, "how many weeks to look ahead, at most 520")
	c.Flags().StringVar(&site, "site", "", "only this site")
	c.Flags().BoolVar(&public, "public", false, "count all certificates as publicly trusted")
	c.Flags().BoolVar(&each, "each-week", false, "a line for each week")
	return c
}

func total(h contract.Hands) string { return strconv.Itoa(h.Automatic + h.Guided + h.Outside) }
