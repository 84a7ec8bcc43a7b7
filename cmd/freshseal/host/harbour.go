package host

import (
	"context"
	"crypto/x509"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/request"
	"freshseal/service"
	"freshseal/service/problem"
	"freshseal/standin/demo"

	"github.com/spf13/cobra"
)

// harbour makes the public signer of the demo known to the service.
func harbour(ctx context.Context, s *service.Service) error {
	t := contract.SignerTerms{About: "Harbour Authority, certificate desk: publicly trusted",
		Contact: "desk@harbour.example", TurnaroundDays: 2, MaxDays: 200,
		Notes: "Portal: portal.harbour.example, profile Server. A certificate on trial lasts a month and comes " +
			"from the Harbour Trial Authority."}
	t.Terms = request.Terms{Public: true, Wildcards: true, Domains: []string{"tidewrack.example"},
		Fields: []string{"organization"}, Profile: "Server"}
	t.Proof = request.Proof{How: "dns", Who: "keeper of the zone", Days: 90}
	t.Order = request.Order{Number: "HA-2207", ApprovedBy: "Ms Fulmar",
		Until: time.Now().AddDate(2, 0, 0).Format(time.DateOnly)}
	_, err := s.Signing.PutSigner(ctx, "harbour-ca", t, problem.Any)
	return err
}

// harbourSigns returns the other side of the demo's public signer.
func (a app) harbourSigns() *cobra.Command {
	var dir, out string
	var trial, worst bool
	c := &cobra.Command{
		Use: "sign PARCEL.zip|REQUEST … --out FOLDER", Short: "Sign requests as the demo's Harbour Authority does, " +
			"and write what it sends back", Args: cobra.MinimumNArgs(1),
		Long: "Sign requests as the demo's Harbour Authority does, and write what it sends back into a folder: " +
			"each certificate, and the\n" +
			"intermediate. --trial issues certificates on trial, which last a month; --worst sends everything in " +
			"the worst order and form.",
		Example: "  freshseal parcel pack --signer harbour-ca --out out.zip\n  freshseal demo sign out.zip --out " +
			"back\n  freshseal intake back/*",
		RunE: func(_ *cobra.Command, args []string) error {
			h, err := demo.OpenHarbour(filepath.Join(dir, "boxes"), nil, a.Now())
			if err != nil || h == nil {
				return cli.Failed("nothing is signed", "the demo's Harbour Authority is not there",
					"start the demo first, or name its folder with --dir")
			}
			var files []pile.File
			for _, name := range args {
				content, err := os.ReadFile(name)
				if err != nil {
					return cli.Failed("nothing is signed", err.Error(), "name a parcel or a request that is there")
				}
				files = append(files, pile.File{Name: filepath.Base(name), Content: content})
			}
			accounts, err := pile.Sort(files, pile.Options{})
			if err != nil {
				return cli.Failed("nothing is signed", err.Error(), "name a parcel or a request")
			}
			requests := requestsOf(accounts)
			if len(requests) == 0 {
				return cli.Failed("nothing is signed", "there is no request in it", "name a parcel or a request")
			}
			answer, err := h.Answer(requests, trial, worst, a.Now())
			if err != nil {
				return cli.Failed("nothing is signed", err.Error(), "")
			}
			if err := os.MkdirAll(out, 0o755); err != nil {
				return cli.Failed("the answer is not written", err.Error(), "choose another folder with --out")
			}
			t := cli.TableOf("file", "bytes")
			for name, content := range answer {
				if err := os.WriteFile(filepath.Join(out, name), content, 0o644); err != nil {
					return cli.Failed("the answer is not written", err.Error(), "choose another folder with --out")
				}
				t.Add(filepath.Join(out, name), len(content))
			}
			slices.SortFunc(t.Rows, func(x, y []any) int { return strings.Compare(x[0].(string), y[0].(string)) })
			return a.Print(map[string]int{"requests": len(requests), "files": len(answer)}, t)
		},
	}
	c.Flags().StringVar(&dir, "dir", ".demo", "the folder of the demo")
	c.Flags().StringVar(&out, "out", "", "the folder that the answer is written into")
	c.Flags().BoolVar(&trial, "trial", false, "issue certificates on trial, for a month")
	c.Flags().BoolVar(&worst, "worst", false, "send everything in the worst order and form")
	c.MarkFlagRequired("out")
	return c
}

// requestsOf returns the requests of a pile, each once: a parcel has every one in two forms.
func requestsOf(accounts []pile.Account) []*x509.CertificateRequest {
	var out []*x509.CertificateRequest
	seen := map[string]bool{}
	for _, account := range accounts {
		for _, item := range account.Holds {
			if item.Request != nil && !seen[item.SHA256] {
				seen[item.SHA256] = true
				out = append(out, item.Request)
			}
		}
	}
	return out
}
