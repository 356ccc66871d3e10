package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"

	"verimorph/core/catalog"
	"verimorph/simfleet"
	"verimorph/simfleet/firmware"
	"verimorph/simfleet/shellbox"
)

// A controller with 500 access points against the same one with one of them: how much longer we take beyond what they take themselves, what a child takes of
// memory, and how the page of the change moves meanwhile.
const (
	followers       = 500
	followersFactor = 20.0
	followersHost   = "127.70.0.3"
)

// controllerProcess is a process of its own: what the boxes need is not counted.
func controllerProcess(dir string, n int) {
	config, err := os.ReadFile("demo/configs/innersund-wc1.conf")
	check(err)
	var places []string
	for i := range 60 {
		places = append(places, fmt.Sprintf("pier-%d", i+1))
	}
	b, err := simfleet.OpenShellBox(shellbox.Spec{Name: "wc1", Maker: "Gullwire", Model: "WC-2", Serial: "W1", Version: "8.5.4", Older: "8.5.2", Address: followersHost + ":2022", User: "bosun", Password: "bench",
		Config: string(config), Followers: shellbox.Named("ap", "AP-31", "G", n, places...), Seats: 1000}, dir, followersFactor, slog.New(slog.DiscardHandler))
	check(err)
	check(b.Start())
	fmt.Println("ready")
	_, _ = io.Copy(io.Discard, os.Stdin) // until the bench ends
}

func benchFollowers(ctx context.Context, dir string) {
	one := carryFollowers(ctx, filepath.Join(dir, "one"), 1, true)
	many := carryFollowers(ctx, filepath.Join(dir, "many"), followers, true)
	theirs := one.wall + float64(followers-1)/followersFactor // they join one after the other, a second between two
	seconds := func(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
	row(fmt.Sprintf("%d access points: our time on top of theirs", followers), seconds(max(many.wall-theirs, 0)), "30 s", 30*time.Second, "<= 1")
	fmt.Printf("    %.1f s in all, %.1f s with one of them\n", many.wall, one.wall)
	amount("memory of an access point, heap on average", (many.memory-one.memory)/followers, "4 KiB", 4, "KiB", "<= 1")
	amount("longest frame of the page meanwhile", many.frame, "100 ms", 100, "ms", "<= 1")
	fmt.Printf("    %d frames in all\n", many.frames)
}

// amount is a row of something that is no time.
func amount(what string, ours float64, against string, theirs float64, unit, wanted string) {
	fmt.Printf("%-48s  %6.1f %-3s  %-18s %6.1f %-3s  %6.2f  %s\n", what, ours, unit, against, theirs, unit, ours/theirs, wanted)
}

// A followed is what was measured of a change of a controller.
type followed struct {
	wall   float64 // seconds
	memory float64 // KiB of the heap of the service, on average, collected early
	frame  float64 // milliseconds of the longest frame
	frames int
}

func carryFollowers(ctx context.Context, dir string, n int, watch bool) (out followed) {
	b, closeAll := newManyBench(ctx, dir, followersHost, followersFactor)
	defer closeAll()
	b.collects = "10"
	_, stop := b.startProcess("controller", filepath.Join(dir, "fleet"), n, 1)
	defer stop()
	defer b.startService()()
	b.loadGullwire("wc2-8.5.5.img", "ap31-8.5.5.img")
	id := b.draftOf("wc1", followersHost+":2022", "gullwire", "8.5.5", "pull-sftp")
	if n == 1 { // the only one of its place
		b.post(fmt.Sprintf("/changes/%d/accept-warnings", id), map[string]any{"checks": []string{"places"}, "reason": "bench"}, nil)
	}
	b.post(fmt.Sprintf("/changes/%d/approve", id), map[string]any{}, nil)
	frames := func() (float64, int) { return 0, 0 }
	if watch {
		frames = b.watchPage(fmt.Sprintf("/changes/%d", id))
	}
	sum, looks := 0.0, 0
	out.wall = b.carryOut([]int64{id}, func() {
		sum += b.heap()
		looks++
	})
	out.memory = sum / float64(max(looks, 1))
	out.frame, out.frames = frames()
	return out
}

// heap is how much memory the service uses for what it knows, in KiB, as it says itself.
func (b *manyBench) heap() float64 {
	q, err := http.NewRequestWithContext(b.ctx, http.MethodGet, "http://"+b.host+":8420/metrics", nil)
	check(err)
	q.Header.Set("Authorization", "Bearer "+b.token)
	resp, err := http.DefaultClient.Do(q)
	check(err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	check(err)
	_, after, _ := strings.Cut(string(text), "\ngo_memstats_heap_alloc_bytes ")
	n, err := strconv.ParseFloat(strings.Fields(after)[0], 64)
	check(err)
	return n / 1024
}

// loadGullwire gives the service the catalogue of the controllers and access points, and images.
func (b *manyBench) loadGullwire(images ...string) {
	text, err := os.ReadFile("demo/catalog/gullwire-gw.yaml")
	check(err)
	b.call("PUT", "/catalogue/gullwire-gw.yaml", "application/yaml", text, nil)
	cat, found := catalog.ReadDir(os.DirFS("demo/catalog"))
	if len(found) > 0 {
		check(found)
	}
	for _, im := range cat.Images() {
		if slices.Contains(images, im.File) {
			data, err := firmware.Content(&im)
			check(err)
			b.call("POST", "/images?file="+im.File, "application/octet-stream", data, nil)
		}
	}
}

// watchPage opens a page in a browser and notes how long its frames take, until the function that it returns is called.
func (b *manyBench) watchPage(page string) func() (longest float64, frames int) {
	bin, err := exec.LookPath("chromium")
	check(err)
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(bin), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800), chromedp.Flag("disable-background-networking", true),
		chromedp.ModifyCmdFunc(func(c *exec.Cmd) { c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} }))
	allocated, release := chromedp.NewExecAllocator(b.ctx, opts...)
	ctx, closeTab := chromedp.NewContext(allocated)
	do := func(actions ...chromedp.Action[chromedp.Void]) {
		for _, a := range actions {
			check(chromedp.Do(ctx, a))
		}
	}
	password := chromedp.CSS("input[name=password]")
	do(chromedp.Navigate("http://"+b.host+":8420"+page), chromedp.WaitVisible(password), chromedp.SendKeys(password, b.password+"\r"), chromedp.WaitVisible(chromedp.CSS("[data-lane]")))
	time.Sleep(3 * time.Second) // the page is there
	number := func(js string) float64 {
		n, err := chromedp.Run(ctx, chromedp.Evaluate[float64](js))
		check(err)
		return n
	}
	number(`window.worst = 0; window.frames = 0; window.last = performance.now(); (function tick(t) { window.worst = Math.max(window.worst, t - window.last); window.last = t; window.frames++; requestAnimationFrame(tick) })(performance.now()); 0`)
	return func() (longest float64, frames int) {
		longest, frames = number("window.worst"), int(number("window.frames"))
		closeTab()
		release()
		return longest, frames
	}
}
