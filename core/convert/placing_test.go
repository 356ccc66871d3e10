package convert

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/config"
)

// home is a gateway that serves already, with a certificate of its own and a policy that says something else.
func home(t *testing.T) (*Library, *config.Schema, *config.Document, Stop) {
	l := demo(t)
	at := stop(t, l, "SG-5@4.2.2")
	s := l.Schema(at)
	d, broken := s.Parse("control-sg2.json", demoConfig(t, "control-sg2.json"))
	require.Empty(t, broken)
	return l, s, d, at
}

// carvedPart is services of the demo's old gateway in the language of the new one.
func carvedPart(t *testing.T, c Carving, answers map[string]string) (*Result, error) {
	l, s, d, _ := gateway(t)
	carved, err := CarveOut(s, d, c)
	if err != nil {
		return nil, err
	}
	doc, broken := s.Parse("x", carved.Text)
	require.Empty(t, broken)
	return l.Convert(Job{From: stop(t, l, "SG-5@3.8.4"), To: stop(t, l, "SG-5@4.2.2"), Fragment: true, OtherUnit: true, Answers: answers}, doc)
}

func TestServicesArePlacedBesideOthers(t *testing.T) {
	_, s, whole, at := home(t)
	r, err := carvedPart(t, Carving{Services: []string{"tickets-web", "mail-web"}}, nil)
	require.NoError(t, err)
	require.True(t, r.Ledger.Complete())
	p := Place(s, whole, r.Document, at)
	require.Empty(t, p.Conflicts)
	changes := strings.Join(p.Changes(), "\n")
	for _, path := range []string{"addresses / tickets-front", "certificates / mail-2026", "pools / mail-web", "services / tickets-web"} {
		assert.Contains(t, changes, path)
	}
	assert.NotContains(t, changes, "policies / public", "it is shared")
	assert.Equal(t, demoConfig(t, "control-sg2.json"), whole.Print(), "the configuration itself is not touched")

	again := Place(s, p.Document, r.Document, at)
	require.Len(t, again.Conflicts, 2)
	assert.Contains(t, again.Conflicts[0].Message, "a service of this name that says the same")

	r, err = carvedPart(t, Carving{Services: []string{"tickets-admin"}}, nil)
	require.NoError(t, err)
	p = Place(s, whole, r.Document, at)
	require.Len(t, p.Conflicts, 1)
	assert.Equal(t, "policies / office", p.Conflicts[0].Path)
}

// What the new home has its own of is not carried, and references follow; a name that it does not have is found.
func TestServicesUseWhatIsThere(t *testing.T) {
	_, s, whole, at := home(t)
	r, err := carvedPart(t, Carving{Services: []string{"vault-web"}}, nil)
	require.NoError(t, err)
	require.False(t, r.Ledger.Complete(), "no other unit reads its key")

	r, err = carvedPart(t, Carving{Services: []string{"vault-web"}, Use: map[string]string{"certificate vault-2026": "vault-2027"}}, nil)
	require.NoError(t, err)
	require.True(t, r.Ledger.Complete(), r.Text)
	p := Place(s, whole, r.Document, at)
	assert.Empty(t, p.Conflicts)
	assert.Contains(t, r.Text, `"certificate": "vault-2027"`)
	assert.NotContains(t, r.Text, "inside:")

	r, err = carvedPart(t, Carving{Services: []string{"vault-web"}, Use: map[string]string{"vault-2026": "vault-2029"}}, nil)
	require.NoError(t, err)
	p = Place(s, whole, r.Document, at)
	require.Len(t, p.Conflicts, 1)
	assert.Contains(t, p.Conflicts[0].Message, `there is no certificate "vault-2029"`)

	_, err = carvedPart(t, Carving{Services: []string{"vault-web"}, Use: map[string]string{"mail-2026": "vault-2027"}}, nil)
	assert.ErrorContains(t, err, `none of these services needs a "mail-2026"`)
	r, err = carvedPart(t, Carving{Services: []string{"vault-web"}}, map[string]string{OwnKey: SameKey})
	require.NoError(t, err)
	assert.True(t, r.Ledger.Complete())
}

// A name of one kind gives only that another name: a service and its pool may be called alike.
func TestRenamingOfOneKind(t *testing.T) {
	_, s, d, _ := gateway(t)
	for key, want := range map[string]string{"pool tickets-web": `"pool": "shop"`, "service tickets-web": `"shop": {`, "tickets-web": `"pool": "shop"`} {
		c := Carving{Services: []string{"tickets-web"}, Rename: map[string]string{key: "shop"}}
		out, err := CarveOut(s, d, c)
		require.NoError(t, err)
		assert.Contains(t, out.Text, want, key)
		assert.Equal(t, map[bool]string{true: "tickets-web", false: "shop"}[key == "pool tickets-web"], c.NewName(s, &out.Services[0]), key)
		assert.Equal(t, key != "tickets-web", strings.Contains(out.Text, `"tickets-web"`), key)
	}
}

func TestServicesAreTakenOut(t *testing.T) {
	_, s, d, text := gateway(t)
	at := stop(t, demo(t), "SG-5@3.8.4")
	p, err := TakeOut(s, d, []string{"tickets-web", "small-0"}, at)
	require.NoError(t, err)
	assert.Empty(t, p.Conflicts)
	assert.ElementsMatch(t, []string{"pools / tickets-web", "pools / small-0", "services / tickets-web", "services / small-0"}, p.Changes())
	assert.Equal(t, text, d.Print())
	_, err = TakeOut(s, d, []string{"nothing"}, at)
	assert.ErrorContains(t, err, "there is no service")
}

func TestWhatServicesSayAndWhereTheyListen(t *testing.T) {
	_, s, d, _ := gateway(t)
	all, err := AllServices(s, d)
	require.NoError(t, err)
	found := ""
	for i := range all {
		if all[i].Says(s, "HANDHELDS") {
			found += all[i].Name + " "
		}
	}
	assert.Equal(t, "tickets-old berths-old voice-old weather-old ", found)
	groups, err := FindServices(s, d, "protocol")
	require.NoError(t, err)
	assert.Len(t, groups, 3)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("203.0.113.100")}, Listens(s, d)["tickets-api"])
	assert.Equal(t, []string{"certificates / vault-2026 / key"}, OwnSecrets(s, d))
	_, err = FindServices(s, d, "key")
	assert.Error(t, err)
}
