package report

import (
	"context"
	"net/url"
	"path/filepath"
	"strings"

	"freshseal/cli"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

// reports returns made for spreadsheets and for paper.
func (a *commands) reports() *cobra.Command {
	var ask contract.AskReport
	var out string
	one := func(kind, about string, example string) *cobra.Command {
		c := &cobra.Command{
			Use: kind, Short: about, Args: cobra.NoArgs, Example: example,
			RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
				form := strings.TrimPrefix(filepath.Ext(out), ".")
				if out == "-" {
					form = "csv"
				}
				q := url.Values{"form": {form}, "day": {ask.Day}, "from": {ask.From}, "until": {ask.Until},
					"site": {ask.Site}}
				return a.SaveAs(ctx, client, cli.V1+"/reports"+cli.Item(kind)+"?"+q.Encode(), out)
			}),
		}
		c.Flags().StringVar(&ask.Site, "site", "", "only this site")
		c.Flags().StringVar(&out, "out", "-", "the file; its ending says what it is: .csv, .xlsx or .html")
		return c
	}
	state := one("state", "Report the state of the fleet as of the end of a day", "  freshseal report state --day "+
		"2026-11-30 --out november.xlsx")
	state.Flags().StringVar(&ask.Day, "day", "", "the day, such as 2026-11-30 (today)")
	replaced := one("replaced",
		"Report what was replaced in a period, with old and new fingerprints and who approved",
		"  freshseal report replaced --from 2026-11-01 --until 2026-11-30 --out november.html")
	replaced.Flags().StringVar(&ask.From, "from", "", "the first day (thirty days before the last)")
	replaced.Flags().StringVar(&ask.Until, "until", "", "the last day (today)")
	exceptions := one("exceptions", "Report what was acknowledged, allowed or paused, with the reasons",
		"  freshseal report exceptions --out exceptions.html")
	return cli.Noun("report", "Reports for spreadsheets and for paper", state, replaced, exceptions)
}
