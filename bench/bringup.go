package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"verimorph/simfleet"
	"verimorph/simfleet/shellbox"
)

// Two hundred blank devices at once against one alone: each gets a password, another release, and its configuration.
const (
	blankDevices = 200
	blankFactor  = 1.0 // at their own pace, which is what the promise is about
	blankHost    = "127.70.0.4"
)

func blankAddress(i int) string { return fmt.Sprintf("127.74.0.%d:2022", i+1) }

// blankProcess is a process of its own: what the boxes need is not counted.
func blankProcess(dir string, n int) {
	for i := range n {
		b, err := simfleet.OpenShellBox(shellbox.Spec{Name: fmt.Sprintf("ap%d", i), Maker: "Gullwire", Model: "AP-31", Serial: fmt.Sprintf("AP31-%04d", i), Version: "8.5.2", Address: blankAddress(i),
			User: "bosun", Password: "bench", Blank: true}, filepath.Join(dir, fmt.Sprint(i)), blankFactor, slog.New(slog.DiscardHandler))
		check(err)
		check(b.Start())
		fmt.Println(b.Access().Password)
	}
	_, _ = io.Copy(io.Discard, os.Stdin) // until the bench ends
}

const blankTemplate = "format: verimorph-template/1\nvalues:\n  - {name: name, type: name}\n---\nbox.name = {{name}}\nwlan.crew.title = Crew\nwlan.tills.title = Tills\n"

func benchBringUp(ctx context.Context, dir string) {
	b, closeAll := newManyBench(ctx, dir, blankHost, blankFactor)
	defer closeAll()
	passwords, stop := b.startProcess("blank", filepath.Join(dir, "fleet"), blankDevices+1, blankDevices+1)
	defer stop()
	defer b.startService()()
	b.loadGullwire("ap31-8.5.5.img")
	b.call("PUT", "/templates/point", "text/plain", []byte(blankTemplate), nil)
	ids := make([]int64, blankDevices+1)
	var work sync.WaitGroup
	for w := range draftAtOnce {
		work.Go(func() {
			for i := w; i < len(ids); i += draftAtOnce {
				ids[i] = b.draftBlank(i, passwords[i])
			}
		})
	}
	work.Wait()
	nothing := func() {}
	one := b.carryOut(ids[:1], nothing)
	all := b.carryOut(ids[1:], nothing)
	seconds := func(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
	row(fmt.Sprintf("%d blank devices at once", blankDevices), seconds(all), "one alone", seconds(one), "<= 1.1")
}

func (b *manyBench) draftBlank(i int, password string) int64 {
	name := fmt.Sprintf("ap%d", i)
	b.post("/devices", map[string]any{"name": name, "address": blankAddress(i), "dialect": "gullwire-point", "user": "bosun", "password": password, "transfer": "pull-sftp"}, nil)
	var c struct{ ID int64 }
	b.post("/bring-ups", map[string]any{"device": name, "template": "point", "values": map[string]string{"name": name}, "to": "8.5.5"}, &c)
	b.post(fmt.Sprintf("/changes/%d/approve", c.ID), map[string]any{}, nil)
	return c.ID
}
