package cli

import (
	"context"
	"fmt"
	"strings"

	"freshseal/service/desk"

	"freshseal/core/request"

	"github.com/spf13/cobra"
)

func (a *app) signer() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List signers", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			signers, err := listOf[desk.Signer](ctx, client, "/signers")
			if err != nil {
				return err
			}
			t := table{head: []string{"signer", "kind", "about", "signs"}}
			for _, s := range signers {
				t.add(s.Name, s.Kind, s.About, signs(s.Terms))
			}
			return a.print(signers, t)
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Delete a signer that has no pending request", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/signers"+item(args[0]), nil, nil)
		}),
	}
	return noun("signer", "People and authorities that sign requests", list, a.signerSet(), remove)
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
	var t desk.SignerTerms
	var keys []string
	c := &cobra.Command{
		Use: "set NAME", Short: "Add or change a signer: a person or office that signs requests", Args: cobra.ExactArgs(1),
		Example: "  freshseal signer set harbour-ca --about \"Harbour Authority, certificate desk\" --contact desk@harbour.example --turnaround 5 \\\n    --max-days 200 --public --wildcards --field organization --notes \"Portal, profile Server; they ask for a DNS record\"",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			for _, k := range keys {
				t.Terms.Keys = append(t.Terms.Keys, request.KeyType(k))
			}
			all, err := listOf[desk.Signer](ctx, client, "/signers")
			if err != nil {
				return err
			}
			var now, s desk.Signer
			for _, each := range all {
				if each.Name == args[0] {
					now = each
				}
			}
			if err := client.change(ctx, "PUT", v1+"/signers"+item(args[0]), now.Revision, t, &s); err != nil {
				return err
			}
			shown := table{head: []string{"what", "value"}}
			shown.add("signer", s.Name)
			shown.add("about", s.About)
			shown.add("contact", s.Contact)
			turnaround := ""
			if s.TurnaroundDays > 0 {
				turnaround = fmt.Sprintf("%d working days", s.TurnaroundDays)
			}
			shown.add("turnaround", turnaround)
			shown.add("signs", signs(s.Terms))
			shown.add("profile", s.Terms.Profile)
			shown.add("wants", strings.Join(s.Terms.Fields, ", "))
			shown.add("proof", strings.TrimSpace(s.Proof.How+" "+s.Proof.Who))
			shown.add("notes", s.Notes)
			return a.print(s, shown)
		}),
	}
	f := c.Flags()
	f.StringVar(&t.About, "about", "", "a description")
	f.StringVar(&t.Contact, "contact", "", "a contact, such as a mail address")
	f.StringVar(&t.Notes, "notes", "", "notes: the steps of its portal, the profile to choose, how domains are validated")
	f.IntVar(&t.TurnaroundDays, "turnaround", 0, "turnaround, in working days")
	f.IntVar(&t.MaxDays, "max-days", 0, "maximum lifetime that it issues, in days; 0: unknown")
	f.StringVar(&t.Terms.Profile, "profile", "", "the certificate profile to choose")
	f.BoolVar(&t.Terms.Public, "public", false, "publicly trusted: signs no internal names")
	f.BoolVar(&t.Terms.Wildcards, "wildcards", false, "signs *.domain")
	f.BoolVar(&t.Terms.Addresses, "addresses", false, "signs IP addresses")
	f.StringVar(&t.Proof.How, "proof", "", "how it validates domains: mail, dns or file")
	f.StringVar(&t.Proof.Who, "prover", "", "who performs the validation")
	f.IntVar(&t.Proof.Days, "proof-days", 0, "how long a validation is valid, in days; 0: for one parcel")
	f.StringArrayVar(&t.Terms.Fields, "field", nil, "a required subject field: organization, unit, locality, state or country; may be given again")
	f.StringArrayVar(&keys, "sign-key", nil, "a key type that it signs (default: any); may be given again")
	return c
}
