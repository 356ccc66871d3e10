package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
)

// gateways are an old one with its services, and one that serves others already.
func gateways() []simulated {
	return []simulated{{name: "control-sg1", site: "Control room", maker: "Brackmoor", model: "SG-5", serial: "SG5-00713", version: "3.8.4", config: "control-sg1.json", transfer: "http"},
		{name: "control-sg2", site: "Control room", maker: "Brackmoor", model: "SG-5", serial: "SG5-00921", version: "4.2.2", config: "control-sg2.json", transfer: "http"}}
}

// moveServices carries a move out, and returns it.
func (e *env) moveServices(args ...string) gen.Change {
	e.t.Helper()
	ch := e.run(decode[gen.Change](e.t, e.must(append([]string{"service", "move", "-json", "control-sg1"}, args...)...)).Id)
	require.Equal(e.t, gen.ChangeStateDone, ch.State, value(ch.Failure))
	return ch
}

// Services leave a gateway in groups: what each change puts is shown before, others stay as they are, and what remains where is told at every moment.
func TestServicesMoveOneAtATime(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, gateways()...)
	e.must("catalogue", "load", "../demo/catalog")
	e.refused(1, []string{"there is no complete backup of control-sg1"}, "service", "list", "control-sg1")
	e.must("backup", "take", "control-sg1")
	out := e.must("service", "list", "control-sg1")
	assert.Contains(t, out, "tickets-web")
	assert.Contains(t, out, "control-sg1: 46 here")
	assert.NotContains(t, e.must("service", "list", "control-sg1", "-search", "VAULT", "-by", "protocol", "-live"), "tickets-web")
	e.refused(2, []string{"-to"}, "service", "preview", "control-sg1", "tickets-web")
	e.refused(3, []string{`none has "colour"`}, "service", "list", "control-sg1", "-by", "colour")
	e.refused(1, []string{`there is no service "tickets-wep"; known and near: tickets-web`}, "service", "preview", "control-sg1", "tickets-wep", "-to", "control-sg2")

	// Of two policies of one name that say something else, one gets another name. Secrets go along, and are not shown.
	e.refused(1, []string{"policies / office: the target has this already, and says something else"}, "service", "preview", "control-sg1", "tickets-web,tickets-admin", "-to", "control-sg2")
	out = e.must("service", "preview", "control-sg1", "tickets-web,tickets-admin", "-to", "control-sg2", "-rename", "office=office-sg1")
	hidesAll(t, out, secretsOf(t, "control-sg1.json"))
	hidesAll(t, out, secretsOf(t, "control-sg2.json"))
	for _, text := range []string{"certificates / tickets-2026 / key", "203.0.113.100", "control-sg1 has 46 services afterwards", "services / tickets-web", "policies / office-sg1"} {
		assert.Contains(t, out, text)
	}
	e.moveServices("tickets-web,tickets-admin", "-to", "control-sg2", "-rename", "office=office-sg1")
	verdict := e.must("change", "verdict", "1")
	assert.Contains(t, verdict, "Service tickets-admin")
	assert.Contains(t, verdict, "pass")
	config := e.box("control-sg2").Part("gateway.json")
	for _, text := range []string{`"tickets-web"`, `"office-sg1"`, "demo-nt4bhz6bsuh9bx9f", `"portal-web"`, `"second"`} {
		assert.Contains(t, config, text)
	}
	hidesAll(t, e.must("change", "journal", "1")+e.must("change", "show", "1"), secretsOf(t, "control-sg1.json"))
	assert.Contains(t, e.must("service", "list", "control-sg1"), "44 here, 2 both")
	e.refused(1, []string{"services / tickets-web"}, "service", "move", "control-sg1", "tickets-web", "-to", "control-sg2")

	e.decidedServices()
	e.withdrawn()
}

// decidedServices moves what needs a person: ciphers that the other train does not offer, and a certificate whose key no other unit can read.
func (e *env) decidedServices() {
	t := e.t
	e.refused(1, []string{"1 decision is open", "service convert control-sg1 tickets-old -to control-sg2"}, "service", "preview", "control-sg1", "tickets-old", "-to", "control-sg2")
	out := e.refused(1, []string{`ciphers "first"`}, "service", "convert", "control-sg1", "tickets-old", "-to", "control-sg2")
	id := strings.TrimSuffix(strings.Fields(out)[1], ":")
	e.must("conversion", "change", id, "-settle", "services / tickets-old / ciphers=nobody needs the old ones any more")
	e.moveServices("tickets-old", "-to", "control-sg2")

	// Another address than the old gateway has, so that both can answer at once.
	assert.Contains(t, e.must("service", "preview", "control-sg1", "mail-web", "-to", "control-sg2"), "1 address is on both devices")
	id = strings.TrimSuffix(strings.Fields(e.must("service", "convert", "control-sg1", "mail-web", "-to", "control-sg2"))[1], ":")
	edited := filepath.Join(e.dir, "mail.json")
	require.NoError(t, os.WriteFile(edited, []byte(strings.Replace(e.must("conversion", "show", id, "-text"), "203.0.113.101", "203.0.113.201", 1)), 0o600))
	e.must("conversion", "change", id, "-edited", edited)
	assert.NotContains(t, e.must("service", "preview", "control-sg1", "mail-web", "-to", "control-sg2"), "on both devices")
	e.moveServices("mail-web", "-to", "control-sg2")
	assert.Contains(t, e.box("control-sg2").Part("gateway.json"), "203.0.113.201")
	assert.Contains(t, e.box("control-sg2").Part("gateway.json"), "demo-r4mcu49shzefmrn9", "with its key")

	e.refused(1, []string{"1 secret is written under a key that control-sg1 keeps for itself: certificates / vault-2026 / key"}, "service", "move", "control-sg1", "vault-web", "-to", "control-sg2")
	e.refused(1, []string{`"tickets-2026"`}, "service", "move", "control-sg1", "vault-web", "-to", "control-sg2", "-use", "tickets-2026=vault-2027")
	e.refused(1, []string{"vault-2029"}, "service", "move", "control-sg1", "vault-web", "-to", "control-sg2", "-use", "vault-2026=vault-2029")
	e.moveServices("vault-web", "-to", "control-sg2", "-use", "vault-2026=vault-2027")
	assert.NotContains(t, e.box("control-sg2").Part("gateway.json"), "inside:")
}

// withdrawn takes services off the old gateway: those that are served elsewhere, each looked at there before.
func (e *env) withdrawn() {
	t := e.t
	// Going back later: what was put is taken off again, as long as the old gateway serves it.
	assert.Contains(t, e.must("service", "withdraw", "control-sg2", "mail-web", "-preview"), "it is taken off only while control-sg1 serves it")
	ch := e.run(decode[gen.Change](t, e.must("service", "withdraw", "control-sg2", "mail-web", "-json")).Id)
	require.Equal(t, gen.ChangeStateDone, ch.State, value(ch.Failure))
	assert.NotContains(t, e.box("control-sg2").Part("gateway.json"), `"mail-web"`)

	e.refused(1, []string{"no change put mail-api onto another device"}, "service", "withdraw", "control-sg1", "mail-api")
	out := e.must("service", "withdraw", "control-sg1", "tickets-web,tickets-admin", "-preview")
	assert.Contains(t, out, "pools / tickets-web")
	assert.Contains(t, out, "control-sg1 has 44 services afterwards")
	ch = e.run(decode[gen.Change](t, e.must("service", "withdraw", "control-sg1", "tickets-web,tickets-admin", "-json")).Id)
	require.Equal(t, gen.ChangeStateDone, ch.State, value(ch.Failure))
	assert.Contains(t, e.must("change", "verdict", fmt.Sprint(ch.Id)), "pass")
	old := e.box("control-sg1").Part("gateway.json")
	assert.NotContains(t, old, `"tickets-web"`)
	for _, text := range []string{`"tickets-api"`, `"tickets-2026"`, `"office"`} {
		assert.Contains(t, old, text, "others need it")
	}
	out = e.must("service", "list", "control-sg1")
	assert.Contains(t, out, "42 here, 2 both, 2 gone")
	assert.Contains(t, out, "taken off by change")
}

// In the console: services are found, ticked, given names that fit, and put onto the other gateway; the list says where each stands then. On a phone, too.
func TestConsoleMovesServices(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, gateways()...)
	e.must("catalogue", "load", "../demo/catalog")
	e.must("backup", "take", "control-sg1")
	do := doer(t, browser(t))
	page := "http://" + e.url + "/services"
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), click("#services"), text("h1", "Services"),
		typed("main input[role=combobox]", "sg1"), clickText("*[@role='option']", "control-sg1"), text("#counts", "46 here"), text("[data-group=tickets]", "tickets-front"),
		typed("input[name=search]", "ADMIN"), lacks("main", "tickets-web"), click("input[aria-label='tickets-admin']"), typed("#move-to input", "sg2"), clickText("*[@role='option']", "control-sg2"),
		text("[data-refusal]", "policies / office"), shot("services"), typed("input[aria-label='New name of policy office']", "office-sg1"), entered("input[aria-label='New name of policy office']"),
		gone("[data-refusal]"), text("#remains", "46 services"), text("main", "policies / office-sg1"), typed("textarea[name=checks]", "tcp:"+e.access("control-sg2").Address), shot("services-move"), click("#draft-services"),
		text("h1", "Change 1"), text("main", "gets of control-sg1: tickets-admin"))
	require.Equal(t, gen.ChangeStateDone, e.run(1).State, e.must("change", "show", "1"))
	assert.Contains(t, e.must("change", "verdict", "1"), "Answers: tcp:")
	do(chromedp.EmulateViewport(390, 844), chromedp.Navigate(page+"?of=control-sg1"), text("[data-service=tickets-admin]", "on control-sg2 as well"), click("input[aria-label='tickets-admin']"),
		clickText("label", "Take off"), text("#remains", "45 services"), shot("services-phone"), click("#draft-services"), text("h1", "Change 2"))
	assert.Contains(t, e.must("service", "list", "control-sg1"), "1 withdrawing")
	e.refused(1, []string{"change 2 takes tickets-admin off control-sg1"}, "service", "move", "control-sg1", "tickets-admin", "-to", "control-sg2")
	assert.Contains(t, e.must("change", "redraft", "2"), "change 3")
	hidesAll(t, e.must("service", "preview", "control-sg1", "mail-web", "-to", "control-sg2", "-json"), secretsOf(t, "control-sg1.json"))
}
