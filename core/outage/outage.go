// Package outage works out of single answers for how long something was interrupted.
//
// Something is asked again and again, and each time it answers or it does not ([Watch.Note]). An interruption begins with the first time it did not, and
// ends with the first time it did again, each taken at the moment when it was asked. Time in which nobody asked, since whoever asks had stopped, counts for
// nothing and is told apart ([Watch.Unwatched]): what happened then is not known.
package outage

// MostGaps is how many interruptions are kept one by one; all are counted.
const MostGaps = 100

// A Gap is an interruption, in seconds after the start of the watch.
type Gap struct {
	From float64 `json:"from"`
	To   float64 `json:"to"` // the last time it was known to last, while it does
	Open bool    `json:"open,omitempty"`
}

// A Watch is what was seen of one target. Its JSON is how it is stored. The zero value has seen nothing.
type Watch struct {
	Device    string  `json:"device"`
	Target    string  `json:"target"`
	Asked     int64   `json:"asked"`
	Lost      int64   `json:"lost"`
	Longest   float64 `json:"longest"`   // seconds
	Unwatched float64 `json:"unwatched"` // seconds in which nobody asked
	Gaps      []Gap   `json:"gaps,omitempty"`
	Last      float64 `json:"last"` // when it was asked last
	More      int     `json:"more,omitempty"`
	began     float64 // of a gap that is not kept
	lasting   bool
}

// Note takes one answer in: at is when it was asked, in seconds after the start; every is how often it is asked, in seconds.
func (w *Watch) Note(at float64, ok bool, every float64) {
	if pause := at - w.Last; w.Asked > 0 && pause > 10*every || w.Asked == 0 && at > 10*every {
		w.Unwatched += pause
		w.close(w.Last)
	}
	w.Asked++
	w.Last = at
	switch {
	case ok:
		w.close(at)
	default:
		w.Lost++
		w.open(at)
	}
}

// open begins an interruption, or goes on with it.
func (w *Watch) open(at float64) {
	switch n := len(w.Gaps); {
	case n > 0 && w.Gaps[n-1].Open:
		w.Gaps[n-1].To = at
		w.Longest = max(w.Longest, at-w.Gaps[n-1].From)
	case w.lasting:
		w.Longest = max(w.Longest, at-w.began)
	case n < MostGaps:
		w.Gaps = append(w.Gaps, Gap{From: at, To: at, Open: true})
	default:
		w.More++
		w.began, w.lasting = at, true
	}
}

// close ends an interruption.
func (w *Watch) close(at float64) {
	switch n := len(w.Gaps); {
	case n > 0 && w.Gaps[n-1].Open:
		g := &w.Gaps[n-1]
		g.To, g.Open = at, false
		w.Longest = max(w.Longest, at-g.From)
	case w.lasting:
		w.Longest, w.lasting = max(w.Longest, at-w.began), false
	}
}

// All is how many interruptions there were.
func (w *Watch) All() int { return len(w.Gaps) + w.More }
