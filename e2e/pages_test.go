package e2e

import (
	"context"
	"fmt"
	"testing"
	"time"
	"verimorph/simfleet/box"
	"verimorph/simfleet/tarnholm"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every page, on a wide screen and on a phone, passes what axe-core can check, and the bar of pages fits.
func TestPagesAreAccessible(t *testing.T) {
	t.Parallel()
	e := setUpSimulated(t, testFactor, hollen(), ramp())
	e.must("catalogue", "load", "../demo/catalog")
	e.must("advisory", "import", "../demo/advisories/tar-2026-01.json")
	e.must("backup", "take", "hollen-fw1")
	e.must("backup", "take", "hollen-fw1")
	e.addImages("th60-4.2.9.img")
	id := e.draft2("hollen-fw1", "-to", "4.2.9")
	e.must("conversion", "start", "-from", "TH-60@4.2.9", "-to", "TH-60@5.0.7", "../demo/configs/hollen-fw1.cfg")
	ctx := browser(t)
	do := doer(t, ctx)
	// checked goes on after a finding, so that one run tells all of them.
	checked := func(name string) act {
		return func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
			assert.NoError(t, accessible(ctx, target, name))
			return none, nil
		}
	}
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), shot("sign-in"), typed(`input[name=password]`, e.password), entered(`input[name=password]`), text("table", "hollen-fw1"))
	for _, size := range [][2]int64{{1280, 800}, {390, 844}} {
		do(chromedp.EmulateViewport(size[0], size[1]))
		for path, says := range map[string]string{
			"/": "hollen-fw1", "/devices/hollen-fw1": "Portrait", "/devices/hollen-fw1/history": "hollen-fw1", "/changes": "hollen-fw1", "/changes/rules": "Readings",
			fmt.Sprintf("/changes/%d", id): "Readiness", "/backups": "Health", "/backups/1": "Running configuration", "/backups/1/compare/2": "", "/keys": "bosun", "/simulation": "hollen-fw1",
			"/configurations": "", "/configurations/1": "Ledger", "/paths": "", "/catalogue": "Tarnholm", "/catalogue/th": "5.4.2", "/images": "", "/dialects": "Workshop", "/advisories": "TAR-2026-01", "/advisories/TAR-2026-01": "TAR-2026-01",
		} {
			do(chromedp.Navigate("http://"+e.url+path), text("main", says), settled(), fits("nav[aria-label=Pages]"), checked(fmt.Sprintf("%s, %d wide", path, size[0])))
		}
	}
	// The tabs of pages that have some.
	do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate("http://"+e.url+"/backups"))
	for _, tab := range []string{"All backups", "Search", "Schedules and keeping", "The store"} {
		do(clickText("button", tab), settled(), checked("/backups, "+tab))
	}
	do(chromedp.Navigate("http://" + e.url + "/configurations"))
	for _, tab := range []string{"Compare", "Carve out services"} {
		do(clickText("button", tab), settled(), checked("/configurations, "+tab))
	}
}

// settled waits until the page has had time to draw what it asked for.
func settled() act {
	return func(ctx context.Context, _ *chromedp.Target) (chromedp.Void, error) {
		select {
		case <-ctx.Done():
		case <-time.After(300 * time.Millisecond):
		}
		return none, ctx.Err()
	}
}

// fits says that an element lies within the width of the window, with all that is in it.
func fits(sel string) act {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		ok, err := chromedp.Evaluate[bool](fmt.Sprintf(`(() => { const e = document.querySelector(%q); return e.getBoundingClientRect().right <= window.innerWidth && e.scrollWidth <= e.clientWidth })()`, sel))(ctx, t)
		if err == nil && !ok {
			err = fmt.Errorf("%s does not fit the window", sel)
		}
		return none, err
	}
}

// The page of a device shows how far a look at it is, and why it failed.
func TestConsoleRefresh(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen())
	require.NoError(t, e.firewall("hollen-fw1").Arm(tarnholm.Mute, box.Fault{}))
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/devices/hollen-fw1"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`),
		text("h1", "hollen-fw1"), clickText("button", "Refresh"), text("main [role=status]", "connecting to"), text("main [role=status]", "in all"), visible(`[role=progressbar][aria-label="Refresh of hollen-fw1"]`),
		text("main", "Looking ..."), shot("refresh"), text("main [role=alert]", "SSH does not within 10s"))
	require.NoError(t, e.firewall("hollen-fw1").Heal(tarnholm.Mute))
	do(clickText("button", "Refresh"), gone("main [role=alert]"), text("main", "seen just now"), lacks("main", "Looking ..."))
}
