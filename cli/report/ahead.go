package report

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"freshseal/cli"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

// expiring lists what ends besides the certificates of slots.
func (a *commands) expiring() *cobra.Command {
	var within int
	c := &cobra.Command{
		Use: "expiring", Short: "List what else expires: intermediates, roots, validations of domains, tokens, " +
			"calendars", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			items, err := cli.ListOf[contract.Expiring](ctx, client, "/expiring?within="+strconv.Itoa(within))
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"ends", "kind", "name", "slots", "of"}}
			for _, e := range items {
				t.Add(cli.OnDay(&e.EndsAt), e.Kind, e.Name, strconv.Itoa(e.Slots), e.Of)
			}
			if len(items) == 0 && a.As == "table" {
				cli.Put(a.Out, "nothing else expires within %d days\n", within)
				return nil
			}
			return a.Print(items, t)
		}),
	}
	c.Flags().IntVar(&within, "within", 365, "how many days to look ahead")
	return c
}

// forecast counts the replacements that are to come.
func (a *commands) forecast() *cobra.Command {
	var weeks int
	var site string
	var each, public bool
	c := &cobra.Command{
		Use: "forecast", Short: "Forecast the replacements of the coming years, and their manual steps",
		Args: cobra.NoArgs,
		Long: "Count the replacements of the coming years: if certificates live as long as now, and under the " +
			"coming longest lives of publicly trusted certificates. Hours are those of people, for guided " +
			"replacements and for devices without a procedure.",
		Example: "  freshseal forecast --weeks 208\n  freshseal forecast --site Mainquay --each-week --as csv",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			var f contract.Forecast
			if err := client.Do(ctx, "GET", cli.V1+"/forecast?"+url.Values{"weeks": {strconv.Itoa(weeks)},
				"site":   {site},
				"public": {strconv.FormatBool(public)}}.Encode(), nil, &f); err != nil {
				return err
			}
			if each {
				t := cli.Table{Head: []string{"week", "today", "coming", "automatic", "guided", "outside"}}
				for _, w := range f.Weeks {
					t.Add(cli.OnDay(&w.Begins), total(w.Today), total(w.Coming), strconv.Itoa(w.Coming.Automatic),
						strconv.Itoa(w.Coming.Guided), strconv.Itoa(w.Coming.Outside))
				}
				return a.Print(f, t)
			}
			t := cli.Table{Head: []string{"year", "weeks", "today", "coming", "automatic", "guided", "outside", "hours",
				"people"}}
			for _, y := range f.Years {
				t.Add(strconv.Itoa(y.Year), strconv.Itoa(y.Weeks), total(y.Today), total(y.Coming),
					strconv.Itoa(y.Coming.Automatic), strconv.Itoa(y.Coming.Guided), strconv.Itoa(y.Coming.Outside),
					fmt.Sprint(y.HoursComing), fmt.Sprint(y.PeopleComing))
			}
			if err := a.Print(f, t); err != nil || a.As != "table" {
				return err
			}
			cli.Putln(a.Out, "hours: of people each week; people: with 20 hours a week each")
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
			cli.Put(a.Out, "longest lives of publicly trusted certificates: %s\n", strings.Join(rules, ", "))
			for _, t := range f.Took {
				cli.Put(a.Out, "%s: %d done in the last year, median %g minutes, %g of them of a person\n", t.Hand,
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
