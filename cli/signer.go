package cli

import (
	"context"
	"fmt"
	"strings"

	"freshseal/core/request"
	"freshseal/service"

	"github.com/spf13/cobra"
)

func (a *app) signer() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List signers", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			signers, err := listOf[service.Signer](ctx, client, "/signers")
			if err != nil {
				return err
			}
			t := table{head: []string{"signer", "kind", "about", "signs"}, wide: 2}
			for _, s := range signers {
				t.add(s.Name, s.Kind, s.About, signs(s.Terms))
			}
			return a.print(signers, t)
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Forget a signer that no request waits for", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/signers"+item(args[0]), nil, nil)
		}),
	}
	return noun("signer", "Those who sign requests", list, a.signerSet(), remove)
}

// signs says what a signer signs, in words.
func signs(t request.Terms) string {
	kind := "any name"
	if t.Public {
		kind = "public names"
	}
	if !t.Wildcards {
		kind += ", no wildcards"
	}
	if !t.Addresses {
		kind += ", no addresses"
	}
	return kind
}

func (a *app) signerSet() *cobra.Command {
	var t service.SignerTerms
	var keys []string
	c := &cobra.Command{
		Use: "set NAME", Short: "Add a person or office that signs, or change what is known of it", Args: cobra.ExactArgs(1),
		Example: "  freshseal signer set harbour-ca --about \"Harbour Authority, certificate desk\" --contact desk@harbour.example --turnaround 5 \\\n    --max-days 200 --public --wildcards --field organization --notes \"Portal, profile Server; they ask for a DNS record\"",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			for _, k := range keys {
				t.Terms.Keys = append(t.Terms.Keys, request.KeyType(k))
			}
			var s service.Signer
			if err := client.do(ctx, "PUT", v1+"/signers"+item(args[0]), t, &s); err != nil {
				return err
			}
			shown := table{head: []string{"what", "value"}, wide: 1}
			shown.add("signer", s.Name)
			shown.add("about", s.About)
			shown.add("contact", dash(s.Contact))
			turnaround := ""
			if s.TurnaroundDays > 0 {
				turnaround = fmt.Sprintf("%d working days", s.TurnaroundDays)
			}
			shown.add("turnaround", dash(turnaround))
			shown.add("signs", signs(s.Terms))
			shown.add("profile", dash(s.Terms.Profile))
			shown.add("wants", dash(strings.Join(s.Terms.Fields, ", ")))
			shown.add("proof", dash(strings.TrimSpace(s.Proof.How+" "+s.Proof.Who)))
			shown.add("notes", dash(s.Notes))
			return a.print(s, shown)
		}),
	}
	f := c.Flags()
	f.StringVar(&t.About, "about", "", "who that is")
	f.StringVar(&t.Contact, "contact", "", "whom to ask")
	f.StringVar(&t.Notes, "notes", "", "the steps of its portal, the profile to pick, who validates the domain and how")
	f.IntVar(&t.TurnaroundDays, "turnaround", 0, "working days until it answers")
	f.IntVar(&t.MaxDays, "max-days", 0, "the longest certificate that it issues; 0: not known")
	f.StringVar(&t.Terms.Profile, "profile", "", "the kind of certificate or of server to pick")
	f.BoolVar(&t.Terms.Public, "public", false, "publicly trusted: signs no name that only exists inside")
	f.BoolVar(&t.Terms.Wildcards, "wildcards", false, "signs *.domain")
	f.BoolVar(&t.Terms.Addresses, "addresses", false, "signs IP addresses")
	f.StringVar(&t.Proof.How, "proof", "", "how it has a domain proven before it signs: mail, dns or file")
	f.StringVar(&t.Proof.Who, "prover", "", "who does that")
	f.IntVar(&t.Proof.Days, "proof-days", 0, "how long such a proof holds; 0: for one parcel")
	f.StringArrayVar(&t.Terms.Fields, "field", nil, "a field of the subject that it wants: organization, unit, locality, state or country; may be given again")
	f.StringArrayVar(&keys, "sign-key", nil, "a kind of key that it signs; none: any; may be given again")
	return c
}
