package request

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"slices"
	"strings"
	"testing"
)

// A box without a field for locality and unit: both are dropped from the plan with their values, and a signer that
// demands them is reported all that is missing at once, before the box is touched.
func TestWhatABoxCannotAskForIsNotPlanned(t *testing.T) {
	plan := Plan{Subject: Subject{CommonName: "gate.tidewrack.example", Organization: "Tidewrack Ferries",
		Unit: "Bridge", Locality: "Mainquay", Country: "NO"},
		Sources: map[string]string{"unit": "the site Mainquay", "country": "the order"}}
	carried := plan.Carried(func(field string) bool { return field == "organization" || field == "country" })
	if carried.Dropped["unit"] != "Bridge" || carried.Dropped["locality"] != "Mainquay" ||
		len(carried.Dropped) != 2 || carried.Subject.Unit != "" || carried.Subject.CommonName == "" {
		t.Errorf("%+v", carried)
	}
	if carried.Sources["unit"] != "" || plan.Sources["unit"] == "" || plan.Subject.Unit != "Bridge" {
		t.Error("the plan that it was made from is changed, or a source of a dropped field is left")
	}
	carried.Names, carried.Key = []string{"gate.tidewrack.example"}, ECDSAP256
	found := carried.Meets(Terms{Fields: []string{"unit", "locality", "state", "country"}, Wildcards: true})
	var said []string
	for _, f := range found {
		said = append(said, f.What)
	}
	if all := strings.Join(said, "\n"); len(found) != 3 || !strings.Contains(all, "the unit (“Bridge”), and the "+
		"family has no place") || !strings.Contains(all, "Mainquay") || !strings.Contains(all, "lacks the state") {
		t.Errorf("it says\n%s", all)
	}
}

// What differs between plan and request, field by field; what the signer demands comes first and stops the request.
func TestARequestBesideItsPlan(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: "gate.tidewrack.example",
			Organization: []string{"Pelorus"}}, DNSNames: []string{"gate.tidewrack.example"}}, key)
	if err != nil {
		t.Fatal(err)
	}
	made, err := Parse(der)
	if err != nil {
		t.Fatal(err)
	}
	plan := Plan{Subject: Subject{CommonName: "gate.tidewrack.example", Organization: "Tidewrack Ferries",
		Country: "NO"}, Names: []string{"gate.tidewrack.example"}, Key: ECDSAP256}
	all := Compare(plan, made, Terms{Fields: []string{"country"}})
	if len(all) != 2 || all[0].Field != "country" || !all[0].Demanded || all[1].Field != "organization" ||
		all[1].Demanded || all[1].Made != "Pelorus" {
		t.Errorf("%+v", all)
	}
	if stops := Demanded(all); len(stops) != 1 || !strings.Contains(stops[0].What, "country: planned was “NO”, and "+
		"the request has “”, which the signer demands") {
		t.Errorf("%+v", stops)
	}
	plan.Names = append(plan.Names, "gate")
	if i := slices.IndexFunc(Compare(plan, made, Terms{}), func(d Difference) bool {
		return d.Field == "names" && d.Made == "gate.tidewrack.example"
	}); i != 0 {
		t.Error("a missing name is not in front")
	}
}
