package backup

import (
	"fmt"
	"slices"
	"time"
)

// A Retention says how long bundles are kept. Zero means: no bound of this kind.
type Retention struct {
	Days  int // keep what is younger
	Count int // keep as many of each device, whatever their age
}

// A Kept is what has to be known of one bundle of a device to decide whether it may go.
type Kept struct {
	ID       int64 // grows with every bundle; what was taken later has the greater number, whatever the clock said
	TakenAt  time.Time
	Complete bool
	Change   int64  // a change points to it; 0: none
	Held     string // the reason of a hold; "": none
}

// A Fate is what becomes of a bundle, and why.
type Fate struct {
	ID  int64
	Go  bool
	Why string
}

// Fates decides over the bundles of one device. Never does the last complete bundle go (nor the last of all), nor one
// that a change points to, nor one on hold. Age counts from now, but never from later than the newest bundle: a clock
// that jumped ahead while nothing was taken makes nothing old.
func (r Retention) Fates(now time.Time, bundles []Kept) []Fate {
	bs := slices.Clone(bundles)
	slices.SortFunc(bs, func(a, b Kept) int { return int(min(max(b.ID-a.ID, -1), 1)) })
	var out []Fate
	lastGood := slices.IndexFunc(bs, func(b Kept) bool { return b.Complete })
	for i, b := range bs {
		if now.After(bs[0].TakenAt) {
			now = bs[0].TakenAt
		}
		age := now.Sub(b.TakenAt)
		f := Fate{ID: b.ID}
		switch {
		case b.Held != "":
			f.Why = "held: " + b.Held
		case b.Change != 0:
			f.Why = fmt.Sprintf("change %d points to it", b.Change)
		case i == lastGood:
			f.Why = "the last complete one"
		case i == 0:
			f.Why = "the last one"
		case r.Days == 0 && r.Count == 0:
			f.Why = "kept without end"
		case i < r.Count:
			f.Why = fmt.Sprintf("among the last %d", r.Count)
		case r.Days > 0 && age < time.Duration(r.Days)*24*time.Hour:
			f.Why = fmt.Sprintf("younger than %d days", r.Days)
		default:
			f.Go, f.Why = true, fmt.Sprintf("%d days old, and %d newer ones are kept", int(age.Hours()/24), i)
		}
		out = append(out, f)
	}
	return out
}
