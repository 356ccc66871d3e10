package backup_test

import (
	"fmt"
	"time"

	"verimorph/core/backup"
)

// The last complete bundle stays, however old it is.
func ExampleRetention_Fates() {
	now := time.Date(2026, 2, 1, 0, 0, 0, 0, time.UTC)
	for _, f := range (backup.Retention{Days: 7}).Fates(now, []backup.Kept{
		{ID: 1, TakenAt: now.AddDate(0, 0, -30), Complete: true},
		{ID: 2, TakenAt: now.AddDate(0, 0, -20), Complete: true},
		{ID: 3, TakenAt: now.AddDate(0, 0, -1), Complete: false},
	}) {
		fmt.Println(f.ID, f.Go, f.Why)
	}
	// Output:
	// 3 false the last one
	// 2 false the last complete one
	// 1 true 29 days old, and 2 newer ones are kept
}
