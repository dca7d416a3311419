package backup

import (
	"testing"
	"time"
)

// TestWhichBackupsAreKept: all of two days, the last of each day of two weeks, the last of each week of a year.
func TestWhichBackupsAreKept(t *testing.T) {
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	var times []time.Time
	for h := 0; h < 24*800; h += 6 {
		times = append(times, now.Add(-time.Duration(h)*time.Hour))
	}
	kept := Kept(times, now)
	recent, daily, weekly, older := 0, map[string]int{}, map[int]int{}, 0
	for i, at := range times {
		if !kept[i] {
			continue
		}
		switch age := now.Sub(at); {
		case age <= keepAllFor:
			recent++
		case age <= keepDayFor:
			daily[at.Format("0102")]++
		case age <= keepWeekFor:
			year, week := at.ISOWeek()
			weekly[year*100+week]++
		default:
			older++
		}
	}
	if recent != 9 || len(daily) < 11 || len(daily) > 13 || len(weekly) < 49 || len(weekly) > 52 || older != 0 {
		t.Errorf("%d of two days, %d days, %d weeks, %d older", recent, len(daily), len(weekly), older)
	}
	for of, n := range daily {
		if n != 1 {
			t.Errorf("%d of the day %s", n, of)
		}
	}
	for of, n := range weekly {
		if n != 1 {
			t.Errorf("%d of the week %d", n, of)
		}
	}
	if k := Kept([]time.Time{now.AddDate(-3, 0, 0)}, now); !k[0] {
		t.Error("the only one there is goes")
	}
}
