package keep

import "time"

// Shown is one backup of a preview.
type Shown struct {
	At    time.Time `json:"at"`
	Keeps bool      `json:"keeps"`
	Why   string    `json:"why"`
}

// mostShown is how many backups a preview works out at most: the youngest.
const mostShown = 40000

// Preview works out what a rule would keep in the long run: all times at which it is due in the time
// that it keeps backups for, as if it had been followed, and what becomes of each. A rule that is due while
// somebody plays is shown for four hours of play each evening.
func Preview(w When, s Series, now time.Time) []Shown {
	span := s.Long.Total()
	if limit := 3 * lasts[Year]; span > limit {
		span = limit
	}
	span += lasts[Day]
	var list []Backup
	add := func(at time.Time) { list = append(list, Backup{ID: int64(len(list)), Counted: at, Good: true}) }
	begin := now.Add(-span)
	if next := w.Next(now); w.Cron != "" {
		if most := mostShown * w.Next(next).Sub(next); most < span {
			begin = now.Add(-most)
		}
	}
	if w.Cron == "" {
		step := time.Duration(w.Every) * time.Second
		for day := begin.Truncate(lasts[Day]); day.Before(now) && len(list) < mostShown; day = day.Add(lasts[Day]) {
			for at := day.Add(18 * time.Hour); at.Before(day.Add(22*time.Hour)) && at.Before(now); at = at.Add(step) {
				add(at)
			}
		}
	} else {
		for at := w.Next(begin); !at.IsZero() && !at.After(now) && len(list) < mostShown; at = w.Next(at) {
			add(at)
		}
	}
	s.Backups = list
	s.Allowance.Bytes = 0 // how large they would be is not known
	fates := Thin(now, []Series{s}, Totals{})[0]
	out := make([]Shown, len(list))
	for i, f := range fates {
		out[i] = Shown{At: list[f.ID].Counted, Keeps: f.Keeps, Why: f.Why}
	}
	return out
}
