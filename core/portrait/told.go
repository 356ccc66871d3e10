package portrait

import (
	"fmt"
	"time"
)

// A Line is one fact about a device in words, as it is shown to people.
type Line struct {
	Name, Text string
}

// Told is what a device says of itself beside what the interfaces have a place of their own for, in the order in which it is shown. What it does
// not say is left out. A new field that is only to be shown needs a row here, and no change of an interface.
func (p *Portrait) Told() (out []Line) {
	for _, l := range []Line{
		{"role", p.Role},
		{"mate", p.Mate},
		{"ensemble", p.Ensemble},
		{"sync", p.synced()},
		{"follows", p.Follows},
		{"hardware", p.Generation},
		{"platform", p.Platform},
		{"file system", p.FileSystem},
		{"memory", bytes(p.Memory)},
		{"uptime", uptime(p.UptimeSeconds)},
		{"started", p.lastStart()},
		{"work", p.Work},
		{"new work", p.OutOfService.say("not taken", "taken")},
	} {
		if l.Text != "" {
			out = append(out, l)
		}
	}
	return out
}

// synced is how far a member of an ensemble mirrors the active one, and whether it could take over.
func (p *Portrait) synced() string {
	who := "it"
	if p.Serves() {
		who = "another one"
	}
	could := p.InSync.say(who+" could take over", who+" could not take over")
	switch {
	case p.Sync == "" || could == "":
		return p.Sync + could
	}
	return p.Sync + "; " + could
}

// lastStart is what the device says about its last start, where it does not say how long that is ago.
func (p *Portrait) lastStart() string {
	if p.UptimeSeconds > 0 {
		return ""
	}
	return p.Started
}

// say is the text for yes or for no; "" where it is not known.
func (f Fact) say(yes, no string) string {
	return map[Fact]string{Yes: yes, No: no}[f]
}

func bytes(n int64) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
}

// uptime says in its two largest units how long a device has been up; "" where it does not say.
func uptime(seconds int64) string {
	d := time.Duration(seconds) * time.Second
	hours := int(d.Hours())
	switch {
	case seconds <= 0:
		return ""
	case hours >= 24:
		return fmt.Sprintf("%d d %d h", hours/24, hours%24)
	case hours > 0:
		return fmt.Sprintf("%d h %d min", hours, int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d min %d s", int(d.Minutes()), seconds%60)
}
