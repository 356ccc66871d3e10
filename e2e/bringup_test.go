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

const pointTemplate = `format: verimorph-template/1
title: Access point that stands alone
models: [AP-31]
values:
  - {name: name, type: name}
  - {name: place, type: text, help: where it hangs}
  - {name: address, type: prefix}
  - {name: crew-vlan, type: number, from: 1, to: 4094, default: "4"}
  - {name: phrase, type: secret}
---
# made from the template
box.name = {{name}}
box.place = "{{place}}"
box.address = {{address}}

wlan.crew.title = Crew
wlan.crew.vlan = {{crew-vlan}}
wlan.tills.title = Tills
wlan.tills.passphrase = "{{phrase}}"
`

// blank are access points as they come out of their crates.
func blank(n int) (out []simulated) {
	for i := range n {
		out = append(out, simulated{name: fmt.Sprintf("new%d", i+1), maker: "Gullwire", model: "AP-31", serial: fmt.Sprintf("AP31-99%02d", i+1), version: "8.5.2", config: "innersund-sa1.conf", transfer: "pull-sftp", blank: true})
	}
	return out
}

// Two blank devices from a table: what is wrong with the table is told at once and nothing is begun; then they get a password of ours, the wanted release, their
// configuration and their new address, and the verdict holds them against what that promises. Done again, nothing is done.
func TestBlankDevicesAreBroughtUp(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, append(blank(2), simulated{name: "other", maker: "Gullwire", model: "AP-31", serial: "AP31-7777", version: "8.5.2", config: "innersund-sa1.conf", transfer: "pull-sftp"})...)
	e.must("catalogue", "load", "../demo/catalog/gullwire-gw.yaml")
	e.openSite()
	file := filepath.Join(e.dir, "point.tpl")
	require.NoError(t, os.WriteFile(file, []byte(pointTemplate), 0o600))
	assert.Contains(t, e.must("template", "put", file), "Template point is kept; it takes 5 values.")
	require.NoError(t, os.WriteFile(filepath.Join(e.dir, "bad.tpl"), []byte(strings.Replace(pointTemplate, "{{place}}", "{{palce}}", 1)), 0o600))
	e.refused(2, []string{`bad.tpl:13:14: error: no value "palce" is described in the head`}, "template", "put", filepath.Join(e.dir, "bad.tpl"))
	table := filepath.Join(e.dir, "points.csv")
	write := func(text string) { require.NoError(t, os.WriteFile(table, []byte(text), 0o600)) }
	address := func(i int) string { return fmt.Sprintf("127.63.%d.%d", e.n, 100+i) }
	head := "device,device.to,device.serial,device.comes-back-at,name,place,address,phrase,crew-vlan\n"
	write("device,device.to,device.serial,device.comes-back-at,name,place,address,phrase,crew-vlan,colour\nnew1,8.5.5,AP31-9901,," + "north,Kiosk,10.0.0.1,hush hush,9999,red\nnew2,8.5.5,AP31-9902,,,Ramp,10.0.0.2/24,hush,4,\n")
	e.refused(2, []string{"nothing was begun", "new1: address, from", `"10.0.0.1" is no address with the length of its network`, "new1: colour, from", "takes no such value", "9999 is not from 1 to 4094", "new2: name is missing"},
		"bring-up", "-table", table, "-template", "point")
	assert.NotContains(t, e.must("change", "list"), "new1")

	first := [3]string{"", e.box("new1").Status().Password, e.box("new2").Status().Password}
	row := func(i int, vlan string) string {
		return fmt.Sprintf("new%d,8.5.5,AP31-99%02d,%s:2022,point-%d,Kiosk %d,%s/24,hush hush %d,%s\n", i, i, address(i), i, i, address(i), i, vlan)
	}
	write(head + row(1, "7") + row(2, ""))
	out := e.must("bring-up", "-table", table, "-template", "point", "-set", "crew-vlan=12", "-start")
	assert.Regexp(t, `crew-vlan +12 +from the call; not from \S*points.csv, line 2`, out)
	assert.Regexp(t, `phrase +\*\*\* +from \S*points.csv, line 2`, out)
	assert.NotContains(t, out, "hush")
	for i := 1; i <= 2; i++ {
		ch := e.awaitEnd(fmt.Sprint(i))
		require.Equal(t, gen.ChangeStateDone, ch.State, "%v %v", ch.Failure, ch.Question)
		assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict, "%+v", ch.Verdict)
		st := e.box(fmt.Sprintf("new%d", i)).Status()
		assert.Equal(t, "8.5.5", st.Version)
		assert.NotEqual(t, first[i], st.Password, "it has a password of ours")
		assert.Contains(t, st.Main, fmt.Sprintf("wlan.crew.vlan = 12\nwlan.tills.title = Tills\nwlan.tills.passphrase = \"hush hush %d\"", i))
		out := e.must("device", "show", fmt.Sprintf("new%d", i))
		assert.Contains(t, out, address(i)+":2022", "it is found at its new address")
		out = e.must("change", "show", fmt.Sprint(i))
		assert.Contains(t, flat(out), "Wireless networks up, as configured")
		assert.NotContains(t, out, "hush")
	}
	// Once more: there is nothing to do, and nothing is done.
	starts := e.box("new1").Status().Boots
	write(head + row(1, "12"))
	out = e.must("bring-up", "-table", table, "-template", "point", "-start")
	assert.NotContains(t, out, "Set a new password")
	ch := e.awaitEnd("3")
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v %v", ch.Failure, ch.Question)
	assert.Equal(t, starts, e.box("new1").Status().Boots, "it was not started anew")

	// Another unit than was meant, and one that is known under another name: nothing is written to them.
	e.refused(1, []string{"the device at", "has the serial AP31-7777, and AP31-1234 was meant: another unit was unpacked. Nothing was written to it"}, "bring-up", "other", "-serial", "AP31-1234", "-keep-password")
	a := e.access("new1")
	stdout, stderr, code := e.client(a.Password+"\n", "bring-up", "twice", "-address", e.access("other").Address, "-dialect", a.Dialect, "-user", a.User, "-keep-password")
	assert.Equal(t, 1, code, stdout+stderr)
}

// In the console: a template is written, what is wrong with a table is told for every line, and a device is brought up from it.
func TestConsoleBringsADeviceUp(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "innersund-sa3", maker: "Gullwire", model: "AP-31", serial: "AP31-4403", version: "8.5.2", config: "innersund-sa1.conf", transfer: "pull-sftp", site: "Innersund", blank: true})
	e.must("catalogue", "load", "../demo/catalog/gullwire-gw.yaml")
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`),
		click("#bring-up"), text("h1", "Bring blank devices up"), click("#new-template"), typed(`input[name=template-name]`, "point"),
		pasted("textarea[name=template-text]", strings.Replace(pointTemplate, "{{place}}", "{{palce}}", 1)), click("#keep-template"), text("body", `no value "palce" is described in the head`),
		pasted("textarea[name=template-text]", pointTemplate), click("#keep-template"), text(`[data-template=point]`, "takes name, place, address, crew-vlan (may be left out), phrase"))
	row := "device,device.serial,name,place,address,crew-vlan,phrase\ninnersund-sa3,AP31-4403,kiosk,\"Kiosk, north\",%s,,hush hush\n"
	do(pasted("textarea[name=table]", fmt.Sprintf(row, "10.0.0.1")), click("#check-table"), text(`[data-checked=innersund-sa3]`, `"10.0.0.1" is no address with the length of its network`), shot("bring-up-wrong"),
		pasted("textarea[name=table]", fmt.Sprintf(row, "10.0.0.1/24")), click("#check-table"), text(`[data-checked=innersund-sa3]`, "all values fit"), lacks("#checked", "hush"),
		click("#draft-all"), text("#drafted", "change 1"), shot("bring-up"), clickText("a", "change 1"), text("h1", "Change 1"), text("body", "is brought up on 8.5.2"), click("#approve"), click("#start"), click("#sure"),
		text("#state", "done"), text("#verdict", "pass"))
	assert.Contains(t, e.box("innersund-sa3").Status().Main, `box.place = "Kiosk, north"`)
	do(chromedp.EmulateViewport(390, 844), chromedp.Navigate("http://"+e.url+"/bring-up"), text("h1", "Bring blank devices up"), visible("#check-table"), shot("bring-up-phone"))
	file := filepath.Join(e.dir, "point.conf")
	require.NoError(t, os.WriteFile(file, []byte("box.name = kiosk\nwlan.crew.title = Crew\n"), 0o600))
	do(chromedp.SetUploadFiles(chromedp.CSS("input[name=configuration]"), []string{file}), gone("#check-table"), pasted("textarea[name=table]", "device\ninnersund-sa3\n"), click("#draft-all"), text("#drafted", "change 2"))
}

// A gauge has nothing but its console line, and no password that a command sets; a gateway gets signature content beside its release.
func TestOtherKindsAreBroughtUp(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "gauge2", maker: "Pellworth", model: "TG-1", serial: "TG1-0099", version: "F1.06", config: "marrow-gauge1.ini", lineOnly: true, blank: true},
		simulated{name: "sg3", maker: "Brackmoor", model: "SG-5", serial: "SG5-00999", version: "4.2.2", config: "control-sg2.json", transfer: "http", blank: true})
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	put := func(name, text string) {
		file := filepath.Join(e.dir, name+".tpl")
		require.NoError(t, os.WriteFile(file, []byte("format: verimorph-template/1\nvalues:\n  - {name: name, type: name}\n---\n"+text), 0o600))
		e.must("template", "put", file)
	}
	// From a file: what the schema does not take is told with its place; the text is sealed with the draft, which is drafted anew with it.
	file := filepath.Join(e.dir, "gauge.ini")
	require.NoError(t, os.WriteFile(file, []byte("[file]\nrelease = F1.06\nsite = pier\n\n[tide]\nmean = often\n"), 0o600))
	from := []string{"bring-up", "gauge2", "-file", file, "-keep-password"}
	e.refused(1, []string{"gauge.ini:6:8: tide / mean", "often"}, from...)
	e.refused(3, []string{"one of a template, a backup and a file"}, append(from, "-backup", "7")...)
	require.NoError(t, os.WriteFile(file, []byte("[file]\nrelease = F1.06\nsite = pier\n\n[tide]\nmean = 60\n\n[panel]\ncode = demo-sesame\n"), 0o600))
	e.must(from...)
	require.NoError(t, os.Remove(file))
	assert.Contains(t, e.must("change", "redraft", "1"), "change 2")
	assert.NotContains(t, e.must("change", "show", "2")+e.must("audit"), "sesame")
	require.Equal(t, gen.ChangeStateDone, e.run(2).State)
	assert.Contains(t, e.box("gauge2").Part("gauge.ini"), "code = demo-sesame")

	put("gauge", "[file]\nrelease = F1.06\nsite = {{name}}\n\n[tide]\nmean = 60\n")
	e.refused(1, []string{"the first password would stay"}, "bring-up", "gauge2", "-template", "gauge", "-set", "name=quay")
	e.must("bring-up", "gauge2", "-template", "gauge", "-set", "name=quay", "-keep-password", "-start")
	e.passes(e.awaitEnd("3"))
	assert.Contains(t, e.box("gauge2").Part("gauge.ini"), "site = quay")

	put("gateway", `{"gateway": {"name": "{{name}}", "manage": "10.9.8.63/24"}, "addresses": {"front": {"address": "203.0.113.190"}}, "pools": {"web": {"members": [{"address": "10.9.70.1", "port": 80}]}},`+"\n"+
		`"services": {"web": {"address": "front", "listen": {"port": 80}, "pool": "web"}}}`+"\n")
	up := []string{"bring-up", "sg3", "-template", "gateway", "-set", "name=sg3", "-keep-password"}
	e.refused(3, []string{"no-such.bin"}, append(up, "-content", "no-such.bin")...)
	e.must(append(up, "-content", "sg-signatures-2025.40.bin", "-start")...)
	e.passes(e.awaitEnd("4"))
	assert.Equal(t, "2025.40", e.box("sg3").Status().Components["signatures"])
	assert.Contains(t, e.must("change", "show", "4"), "Update signatures")

	// Done again, nothing is written.
	e.must(append(up, "-content", "sg-signatures-2025.40.bin", "-start")...)
	e.passes(e.awaitEnd("5"))
	journal := e.must("change", "journal", "5")
	assert.Regexp(t, ` done +signatures is 2025.40`, journal)
	assert.Regexp(t, ` done +gateway.json is on the device as it should be`, journal)
	assert.NotContains(t, journal, "intent   Update signatures")
}
