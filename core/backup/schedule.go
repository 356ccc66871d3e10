package backup

import (
	"fmt"
	"hash/fnv"
	"time"

	"github.com/robfig/cron/v3"
)

// A Schedule says when bundles are taken by themselves.
type Schedule struct {
	When   string        // five fields, as cron has them (POSIX crontab); minute, hour, day of month, month, day of week
	Spread time.Duration // devices start at different moments within this span after each occurrence
}

// ReadSchedule checks a schedule.
func ReadSchedule(when string, spread time.Duration) (Schedule, error) {
	s := Schedule{when, spread}
	c, err := cron.ParseStandard(when)
	if err != nil {
		return s, fmt.Errorf("%q is no time to take backups at: it has five fields (minute, hour, day of month, month, day of week), such as \"30 1 * * *\" for every night at half past one", when)
	}
	if spread < 0 || spread > 24*time.Hour {
		return s, fmt.Errorf("a spread is from 0 to 24 hours, not %s", spread)
	}
	if c.Next(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)).IsZero() {
		return s, fmt.Errorf("%q never comes", when)
	}
	return s, nil
}

// Offset is where a device starts within the spread: always the same for a device, and even over many.
func (s Schedule) Offset(device string) time.Duration {
	if s.Spread <= 0 {
		return 0
	}
	h := fnv.New64a()
	_, _ = h.Write([]byte(device))
	x := h.Sum64() // FNV alone leaves alike names close together
	x ^= x >> 33
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	return time.Duration(x % uint64(s.Spread)).Truncate(time.Second)
}

// Next is when a device is due next, strictly after a moment. The zone is that of after.
func (s Schedule) Next(device string, after time.Time) time.Time {
	c, err := cron.ParseStandard(s.When)
	if err != nil {
		return time.Time{}
	}
	offset := s.Offset(device)
	return c.Next(after.Add(-offset)).Add(offset)
}

// Missed counts the occurrences of a device after one moment and up to another, at most a thousand.
func (s Schedule) Missed(device string, after, until time.Time) (n int) {
	for t := s.Next(device, after); !t.IsZero() && !t.After(until) && n < 1000; t = s.Next(device, t) {
		n++
	}
	return n
}
