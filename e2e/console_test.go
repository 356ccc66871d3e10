package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
)

// demoFleet is the fleet of the demo.
func demoFleet() []simulated {
	return []simulated{
		{name: "hollen-fw1", serial: "TH60-04417", flash: 16 << 20, sessions: 1240, site: "Pier Hollen", model: "TH-60", version: "4.2.3", idle: "4.2.1"},
		{name: "brattsund-fw1", serial: "TH40-01182", flash: 8 << 20, sessions: 310, site: "Pier Brattsund", model: "TH-40", version: "4.2.6", idle: "4.2.3", transfer: "http"},
		{name: "vesterkai-fw1", serial: "TH80-00029", flash: 32 << 20, sessions: 5200, site: "Vesterkai terminal", model: "TH-80", version: "5.2.3", idle: "5.0.7"},
		{name: "gullnes-fw1", serial: "TH60-05120", flash: 16 << 20, sessions: 860, site: "Gullnes", model: "TH-60", version: "5.0.7", transfer: "http"},
	}
}

// browser starts headless Chromium and fails the test on any exception in the page.
func browser(t *testing.T) context.Context {
	bin, err := exec.LookPath("chromium")
	require.NoError(t, err, "chromium is installed by scripts/packages")
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(bin), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("force-device-scale-factor", "1"), chromedp.Env("TMPDIR="+filepath.Dir(binDir)))
	ctx, cancel := chromedp.NewExecAllocator(t.Context(), opts...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 3*time.Minute)
	t.Cleanup(cancel)
	var mu sync.Mutex
	var broken []string
	require.NoError(t, chromedp.Listen(ctx, func(ev any) {
		if e, ok := ev.(*runtime.EventExceptionThrown); ok {
			mu.Lock()
			defer mu.Unlock()
			what := e.ExceptionDetails.Text
			if x := e.ExceptionDetails.Exception; x != nil {
				what += " " + x.Description
			}
			broken = append(broken, what)
		}
	}))
	t.Cleanup(func() {
		mu.Lock()
		defer mu.Unlock()
		assert.Empty(t, broken, "exceptions in the page")
	})
	return ctx
}

// doer carries actions out, each call within a minute and a bit more for each of them, and shows the page's text when one fails.
func doer(t *testing.T, ctx context.Context) func(...act) {
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800))) // starts the browser, which lives as long as this context
	return func(actions ...act) {
		t.Helper()
		limited, cancel := context.WithTimeout(ctx, time.Minute+time.Duration(len(actions))*10*time.Second)
		defer cancel()
		for i, a := range actions {
			if err := chromedp.Do(limited, a); err != nil {
				page, _ := chromedp.Run(ctx, chromedp.Evaluate[string]("document.body.innerText"))
				require.NoError(t, err, "action %d; the page says:\n%s", i+1, page)
			}
		}
	}
}

// act is one thing that somebody does or sees in the browser.
type act = chromedp.Action[chromedp.Void]

var none chromedp.Void

// shot checks the page for what keeps people out of it, and takes a picture for docs/screenshots when SHOTS names that folder.
func shot(name string) act {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		if err := accessible(ctx, t, name); err != nil {
			return none, err
		}
		dir := os.Getenv("SHOTS")
		if dir == "" {
			return none, nil
		}
		time.Sleep(400 * time.Millisecond) // transitions end
		data, err := chromedp.CaptureScreenshot()(ctx, t)
		if err != nil {
			return none, err
		}
		return none, os.WriteFile(filepath.Join(dir, name+".png"), data, 0o644)
	}
}

// accessible runs axe-core over the page: no rule of WCAG 2 that it can check is broken, and none of its best practices.
func accessible(ctx context.Context, t *chromedp.Target, name string) error {
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		return err
	}
	if _, err := chromedp.Evaluate[bool](string(axe)+"; true")(ctx, t); err != nil {
		return err
	}
	const ask = `axe.run({resultTypes: ["violations"]}).then((r) => { window.axeFound = r.violations.map((v) => v.id + ": " + v.help + "\n" + v.nodes.map((n) => "  " + n.html).join("\n")).join("\n"); window.axeDone = true }, (e) => { window.axeFound = String(e); window.axeDone = true }); true`
	if _, err := chromedp.Evaluate[bool]("window.axeDone = false; "+ask)(ctx, t); err != nil {
		return err
	}
	for range 400 {
		done, err := chromedp.Evaluate[bool]("window.axeDone === true")(ctx, t)
		if err != nil {
			return err
		}
		if done {
			found, err := chromedp.Evaluate[string]("window.axeFound")(ctx, t)
			if err == nil && found != "" {
				err = fmt.Errorf("the page %s is not accessible: %s", name, found)
			}
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("the page %s: the check does not end", name)
}

// text waits until the elements say something.
func text(sel, want string) act {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		last := ""
		for range 1200 {
			var err error
			if last, err = chromedp.Evaluate[string](fmt.Sprintf(`[...document.querySelectorAll(%q)].map(e => e.innerText).join("\n")`, sel))(ctx, t); err != nil {
				return none, err
			}
			if strings.Contains(last, want) {
				return none, nil
			}
			time.Sleep(50 * time.Millisecond)
		}
		return none, fmt.Errorf("%s does not say %q but %q", sel, want, last)
	}
}

// lacks waits until the elements no longer say something.
func lacks(sel, unwanted string) act {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		for range 1200 {
			now, err := chromedp.Evaluate[string](fmt.Sprintf(`[...document.querySelectorAll(%q)].map(e => e.innerText).join("\n")`, sel))(ctx, t)
			if err != nil {
				return none, err
			}
			if !strings.Contains(now, unwanted) {
				return none, nil
			}
			time.Sleep(50 * time.Millisecond)
		}
		return none, fmt.Errorf("%s still says %q", sel, unwanted)
	}
}

// clickText clicks the first element of a kind that says something.
func clickText(sel, label string) act {
	xpath := fmt.Sprintf(`//%s[contains(normalize-space(.), %q)]`, sel, label)
	return clicked(fmt.Sprintf("document.evaluate(%q, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue", xpath), chromedp.Click(xpath, chromedp.NodeVisible))
}

func click(sel string) act {
	return clicked(fmt.Sprintf("document.querySelector(%q)", sel), chromedp.Click(chromedp.CSS(sel), chromedp.NodeVisible))
}

// clicked clicks once the element stands still, can be clicked, and nothing lies over it, such as a dialog that is closing: before that
// a person would not hit it either.
func clicked(element string, then act) act {
	where := fmt.Sprintf(`(() => {
		const e = %s;
		if (!e || e.disabled) return "";
		e.scrollIntoViewIfNeeded();
		const r = e.getBoundingClientRect(), [x, y] = [r.x + r.width / 2, r.y + r.height / 2];
		const hit = document.elementFromPoint(x, y);
		return hit && (e.contains(hit) || hit.contains(e)) && !hit.closest("[data-closed]") ? x + " " + y : "";
	})()`, element)
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		last := ""
		for range 1200 {
			now, err := chromedp.Evaluate[string](where)(ctx, t)
			if err != nil {
				return none, err
			}
			if now != "" && now == last {
				return then(ctx, t)
			}
			last = now
			time.Sleep(50 * time.Millisecond)
		}
		return none, fmt.Errorf("%s cannot be clicked", element)
	}
}

func visible(sel string) act  { return chromedp.WaitVisible(chromedp.CSS(sel)) }
func gone(sel string) act     { return chromedp.WaitNotPresent(chromedp.CSS(sel)) }
func typed(sel, v string) act { return chromedp.SendKeys(chromedp.CSS(sel), v) }
func emptied(sel string) act {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		if _, err := chromedp.Evaluate[bool](fmt.Sprintf("document.querySelector(%q).select() === undefined", sel))(ctx, t); err != nil {
			return none, err
		}
		return chromedp.KeyEvent("\b")(ctx, t)
	}
}

// top goes to the top of the page.
func top() act {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Evaluate[bool]("window.scrollTo(0, 0) === undefined")(ctx, t)
		return none, err
	}
}

// chosen picks an option of a select, as somebody would.
func chosen(sel, v string) act {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		ok, err := chromedp.Evaluate[bool](fmt.Sprintf(`(() => { const s = document.querySelector(%q); if (![...s.options].some(o => o.value === %q)) return false;
			Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, %q); s.dispatchEvent(new Event("change", {bubbles: true})); return true })()`, sel, v, v))(ctx, t)
		if err == nil && !ok {
			err = fmt.Errorf("%s offers no %q", sel, v)
		}
		return none, err
	}
}
func entered(sel string) act { return typed(sel, "\r") }

// TestConsole drafts, approves and watches a change to its verdict in a browser, without ever loading the page again.
func TestConsole(t *testing.T) {
	t.Parallel()
	e := setUp(t, 40, demoFleet()...)
	c, _ := catalog.ReadDir(os.DirFS("../demo/catalog"))
	e.must("catalogue", "load", "../demo/catalog")
	e.must("advisory", "import", "../demo/advisories/tar-2026-01.json", "../demo/advisories/gul-2025-07.json")
	e.openSite()
	for _, r := range c.Family("th").Releases {
		for _, im := range r.Images {
			if im.File != "th60-4.2.3.img" && im.File != "th80-5.2.3.img" {
				e.addImages(im.File)
			}
		}
	}
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"),
		visible(`input[name=password]`),
		typed(`input[name=password]`, "wrong"), entered(`input[name=password]`), text("[role=alert]", "the user or the password is wrong"),
		emptied(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`),
		text("table", "hollen-fw1"), text("header", "Simulated, 40 times faster"),
		func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
			_, err := chromedp.Evaluate[bool](`window.sameDocument = true`)(ctx, t)
			return none, err
		}, shot("fleet"))

	// Find a device by what it runs, and look at it.
	do(typed(`input[type=search]`, "5.2"), text("main", "1 device fits"), emptied(`input[type=search]`), typed(`input[type=search]`, "holl"),
		clickText("a", "hollen-fw1"), text("h1", "hollen-fw1"), clickText("button", "Refresh"), text("main", "seen just now"))

	// The aim is chosen with the keyboard; the path is drawn with its stops and the refused jump.
	do(chromedp.Focus(chromedp.CSS(`#aim`)), chromedp.KeyEvent(" "), visible(`[role=option]`), chromedp.KeyEvent("5.4.2"), chromedp.KeyEvent("\r"),
		visible(`svg[aria-label="Path from 4.2.3 to 5.4.2 by 4.2.9, 5.0.7, 5.4.2"]`),
		text("main", "Not 4.2.3 to 5.4.2"), text("main", "a hop that crosses 5.0 must land on 5.0.x, not 5.4.2"), text("main", "Needed: TH-R6"), shot("path"))

	do(click(`#draft`), text("h1", "Change 1"), text("#state", "draft"), text("main", "Compare checksum on device"), text("main", "Readiness"), text(`tr[data-check=slots]`, "slot a stays as it is"), text("main", "start the installation of 4.2.9 again"), shot("draft"),
		click(`#approve`), text("#state", "approved"),
		click(`#start`), visible(`#sure`), click(`#sure`), text("#state", "running"))

	// The live view moves by itself: a later hop's step runs, with its bar.
	do(text(`tr[data-state=running]`, "Install into the idle slot"), text(`tr[data-state=running]`, "slot b is being written"),
		clickText("button", "engineer"), clickText("button", "Dark page"), text("main", "Hop 2 of 3"),
		text(`tr[data-state=running]`, "Wait for"), shot("live-dark"))
	do(text("#verdict", "verdict: pass"), text("#state", "done"), text("main", "all 4 are there"), top(), shot("verdict"),
		clickText("button", "engineer"), clickText("button", "Light page"))

	do(clickText("button", "Journal"), text("table", "intent"),
		clickText("a", "Backups"), clickText("button", "All backups"), text("table", "4.2.9"), click(`input[aria-label="Backup 1"]`), click(`input[aria-label="Backup 3"]`), clickText("button", "Compare two"),
		text(".cm-merge-b", "rewrite web-tickets"), text("main", "removed"),
		clickText("a", "Changes"), text("table", "4.2.9, 5.0.7"))

	// The catalogue, family by family, and its history.
	do(clickText("a", "Catalogue"), text("table", "tarnholm-th.yaml"), clickText("a", "Gullwire wireless firmware"), text("main", "Train 9.4"), text("main", "GUL-2025-07"),
		clickText("button", "Rules"), text("main", "crossing 9.0.0, landing on 9.0.x"), clickText("button", "Components"), text("main", "guest portal pages"),
		clickText("button", "Models"), text("main", "train 9 no longer serves the AP-12"), clickText("button", "Releases"), top(), shot("catalogue"),
		click(`button[aria-label="History of tarnholm-th.yaml"]`), text("[role=dialog]", "in use"), chromedp.KeyEvent("\x1b"), gone("[role=dialog]"))

	// The explorer draws releases on the lines of their trains, other ways and refused jumps.
	do(clickText("a", "Paths"), clickText("button", "Gullwire"), text("#model", "WC-2"), chosen("#from", "8.2.1"), chosen("#to", "train:9.2"),
		visible(`svg[aria-label$="the way stops at 8.5.4, 8.8.5, 9.0.2, 9.2.2"]`), text("main", "other way 1"), chromedp.Focus(chromedp.CSS(`g[aria-label="Refused: 8.2.1 to 9.2.2"]`)), chromedp.KeyEvent("\r"), text("main", "Not 8.2.1 to 9.2.2"),
		top(), shot("explorer"),
		clickText("button", "other way 1"), text("main", "This way stops at"), chosen("#from", "9.4.0"), chosen("#to", "8.8.5"), text("[role=alert]", "There would be a path if the policy allowed a configuration reset"),
		chosen("#from", "9.0.2"), chosen("#to", "9.2.2"), clickText("summary", "What else is known"), clickText("button", "It is an ensemble"), clickText("button", "Add a member"), text("[role=alert]", "no skew rule tolerates WC-2 on 9.2.2 beside WC-2 on 9.0.2"))

	// The image store: what nobody needs goes, what is missing comes from the release site, and an upload says how far it is.
	do(clickText("a", "Images"), text("[role=status]", "vesterkai-fw1: 5.2.3 has no image here"), text("main", "In the store: 34"), clickText("button", "What it offers"), text("main", "of 315 files"), typed(`main input[type=search]`, "th80-5.2.3"),
		click(`button[aria-label="Fetch th80-5.2.3.img"]`), text(`[data-fetch="th80-5.2.3.img"]`, "hash, header and signature are right"),
		text("main", "In the store: 35"), lacks("main", "has no image here"), // the page stands still before the next click
		click(`button[aria-label="Delete th40-4.2.1.img"]`), clickText("button", "Delete it"), gone(`button[aria-label="Delete th40-4.2.1.img"]`), text("main", "In the store: 34"),
		chromedp.SetUploadFiles(chromedp.CSS(`main input[type=file]`), []string{filepath.Join(imageDir, "th60-4.2.3.img")}), text(`[data-upload="th60-4.2.3.img"]`, "in the store"), text("main", "In the store: 35"),
		clickText("button", "Check all"), text("[role=status]", "are as they should be"), top(), shot("images"))

	do(clickText("a", "Advisories"), text("table", "TAR-2026-01"), clickText("a", "TAR-2026-01"), text("main", "5.0.7 → 5.2.3"), shot("advisory"),
		click(`button[aria-label="Forget GUL-2025-07"]`), gone(`button[aria-label="Forget GUL-2025-07"]`))

	// A device is added and refused in a dialog; what was typed stays.
	do(clickText("a", "Fleet"), clickText("button", "Add device"), visible(`input[name=address]`),
		typed(`input[name=name]`, "hollen-fw1"), typed(`input[name=address]`, "127.0.0.1:22"), chosen("#dialect", "tarnholm"), typed(`input[name=user]`, "x"),
		typed(`input[name=password]`, "y"), entered(`input[name=name]`), text("[role=alert]", `there is a device "hollen-fw1" already`))
	same, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`window.sameDocument === true`))
	require.NoError(t, err)
	assert.True(t, same, "the page was never loaded again")

	do(chromedp.KeyEvent("\x1b"), gone(`input[name=address]`), clickText("button", "engineer"), clickText("button", "Sign out"), visible(`input[name=password]`))
}

func TestConsoleWithoutService(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, hollen())
	e.addImages(storyImages...)
	ctx := browser(t)
	do := doer(t, ctx)
	id := fmt.Sprint(e.draft("hollen-fw1", "5.4.2"))
	do(chromedp.Navigate("http://"+e.url+"/changes/"+id), visible(`input[name=password]`),
		typed(`input[name=password]`, e.password), entered(`input[name=password]`), text("#state", "draft"))
	e.must("change", "approve", id)
	e.must("change", "start", id)
	do(text("#state", "running"), text(`tr[data-state=running]`, "Install"))
	e.killService()
	do(text("[role=status]", "no answer from the service; trying again"))
	e.startService()
	do(text("#verdict", "verdict: pass"))
	assert.Equal(t, 3, e.firewall("hollen-fw1").Status().Fits)

	resp, err := http.Get("http://" + e.url + "/no/such/file.js")
	require.NoError(t, err)
	defer resp.Body.Close()
	assert.Contains(t, resp.Header.Get("Content-Security-Policy"), "default-src 'self'")
}

// pasted puts a text into a text area in the place of what is there, as from the clipboard.
func pasted(sel, v string) act {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Evaluate[bool](fmt.Sprintf(`(() => {
			const e = document.querySelector(%q);
			Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(e, %q);
			return e.dispatchEvent(new Event("input", { bubbles: true }));
		})()`, sel, v))(ctx, t)
		return none, err
	}
}
