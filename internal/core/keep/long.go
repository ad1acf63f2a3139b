package keep

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"reshard/internal/core/fault"
)

// Long says how long backups are kept, as clauses that follow each other in age. It reads as a
// sentence: all for 2 days, then one a day for 3 weeks, then one a month for ever.
type Long []Clause

// Clause keeps one backup of every Step for as long as Span.
type Clause struct {
	Each Each
	// Span is how long the clause lasts, after those before it; Ever is no end.
	Span Span
}

// Each is how many are kept: all of them when Count is 0, else one in every Count units.
type Each struct {
	Count int
	Unit  Unit
}

// Span is a length of time, or no end when Ever.
type Span struct {
	Count int
	Unit  Unit
	Ever  bool
}

// Unit is a unit of the calendar.
type Unit string

// The units.
const (
	Hour  Unit = "hour"
	Day   Unit = "day"
	Week  Unit = "week"
	Month Unit = "month"
	Year  Unit = "year"
)

// lasts is how long a unit is when ages are counted.
var lasts = map[Unit]time.Duration{
	Hour: time.Hour, Day: 24 * time.Hour, Week: 7 * 24 * time.Hour, Month: 30 * 24 * time.Hour,
	Year: 365 * 24 * time.Hour,
}

// Forever is an age that nothing reaches.
const Forever = time.Duration(1<<63 - 1)

// Duration is how long a span is; Forever for no end.
func (s Span) Duration() time.Duration {
	if s.Ever {
		return Forever
	}
	return time.Duration(s.Count) * lasts[s.Unit]
}

// most is the greatest number that may stand before a unit: a hundred years of hours.
const most = 876000

// mostClauses is how many clauses a sentence may have.
const mostClauses = 12

// The grammar of a clause, in lower case and with single blanks.
var clausePattern = regexp.MustCompile(
	`^(?:(all)|one (?:an? (hour|day|week|month|year)|every (\d{1,6}) (hour|day|week|month|year)s?)) for ` +
		`(?:(ever)|(\d{1,6}) (hour|day|week|month|year)s?)$`)

// ParseLong reads a sentence. The error says what of it does not read and gives an example.
func ParseLong(sentence string) (Long, error) {
	bad := func(format string, args ...any) error {
		return fault.New(fault.Invalid, "read", "how long backups are kept", format, args...).
			With("Write it like: all for 2 days, then one a day for 3 weeks, then one a month for ever")
	}
	text := strings.TrimSuffix(strings.Join(strings.Fields(strings.ToLower(sentence)), " "), ".")
	if text == "" {
		return nil, bad("it is empty")
	}
	var out Long
	total := time.Duration(0)
	for i, part := range strings.Split(text, ",") {
		part = strings.TrimSpace(part)
		part = strings.TrimSpace(strings.TrimPrefix(part, "then "))
		m := clausePattern.FindStringSubmatch(part)
		switch {
		case m == nil:
			return nil, bad("“%s” does not read", part)
		case i >= mostClauses:
			return nil, bad("it has more than %d parts", mostClauses)
		case len(out) > 0 && out[len(out)-1].Span.Ever:
			return nil, bad("nothing can come after “for ever”, and “%s” does", part)
		}
		c := Clause{Each: Each{Count: 1, Unit: Unit(m[2])}, Span: Span{Ever: m[5] != "", Unit: Unit(m[7])}}
		switch {
		case m[1] != "":
			c.Each = Each{}
		case m[3] != "":
			c.Each.Count, _ = strconv.Atoi(m[3]) // digits
			c.Each.Unit = Unit(m[4])
		}
		c.Span.Count, _ = strconv.Atoi("0" + m[6])
		if m[3] != "" && c.Each.Count == 0 || !c.Span.Ever && c.Span.Count == 0 {
			return nil, bad("“%s” says nought", part)
		}
		if c.Each.Count > most || c.Span.Count > most || total > Forever/4 || c.Span.Duration() < 0 {
			return nil, bad("“%s” is longer than can be counted", part)
		}
		if !c.Span.Ever {
			total += c.Span.Duration()
		}
		out = append(out, c)
	}
	if total > 100*lasts[Year] {
		return nil, bad("it is more than a hundred years; say “for ever”")
	}
	return out, nil
}

// String is the sentence.
func (l Long) String() string {
	parts := make([]string, len(l))
	for i, c := range l {
		parts[i] = c.Each.String() + " for " + c.Span.String()
	}
	return strings.Join(parts, ", then ")
}

// String says how many are kept.
func (e Each) String() string {
	switch {
	case e.Count == 0:
		return "all"
	case e.Count == 1 && e.Unit == Hour:
		return "one an hour"
	case e.Count == 1:
		return "one a " + string(e.Unit)
	}
	return fmt.Sprintf("one every %d %ss", e.Count, e.Unit)
}

// String is the length in words.
func (s Span) String() string {
	switch {
	case s.Ever:
		return "ever"
	case s.Count == 1:
		return "1 " + string(s.Unit)
	}
	return fmt.Sprintf("%d %ss", s.Count, s.Unit)
}

// MarshalText writes the sentence.
func (l Long) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText reads a sentence.
func (l *Long) UnmarshalText(text []byte) (err error) {
	*l, err = ParseLong(string(text))
	return err
}

// Total is how old a backup grows at most.
func (l Long) Total() (total time.Duration) {
	for _, c := range l {
		if c.Span.Ever {
			return Forever
		}
		total += c.Span.Duration()
	}
	return total
}

// bucket numbers the stretch of the calendar that a moment falls into.
func (e Each) bucket(at time.Time) int64 {
	year, month, day := at.Date()
	days := time.Date(year, month, day, 0, 0, 0, 0, time.UTC).Unix() / 86400
	n := int64(e.Count)
	floor := func(a int64) int64 {
		if a < 0 {
			return -((-a + n - 1) / n)
		}
		return a / n
	}
	switch e.Unit {
	case Hour:
		return floor(days*24 + int64(at.Hour()))
	case Day:
		return floor(days)
	case Week:
		return floor((days + 3) / 7) // 1 January 1970 was a Thursday
	case Month:
		return floor(int64(year)*12 + int64(month) - 1)
	case Year:
		return floor(int64(year))
	}
	return 0
}

// judge says of backups, oldest first, what the clauses do with them. A backup must have been kept by
// each clause that it has grown out of: so its fate rests on older ones only, never on what comes.
func (l Long) judge(now time.Time, zone *time.Location, list []state) {
	if zone == nil {
		zone = time.UTC
	}
	age := func(s state) time.Duration { return max(0, now.Sub(s.Counted)) }
	for i := range list {
		list[i].fate.Keeps = true
	}
	begins := time.Duration(0)
	for _, c := range l {
		ends := Forever
		if !c.Span.Ever {
			ends = begins + c.Span.Duration()
		}
		firsts := c.firsts(zone, list, func(s state) bool { return s.fate.Keeps && age(s) >= begins })
		for i := range list {
			s := &list[i]
			if !s.fate.Keeps || age(*s) < begins {
				continue
			}
			if c.Each.Count == 0 {
				if age(*s) < ends {
					s.fate.Why = "all of the last " + strings.TrimPrefix(c.Span.String(), "1 ") + " are kept"
					if c.Span.Ever {
						s.fate.Why = "all are kept"
					}
				}
				continue
			}
			first := firsts[c.Each.bucket(s.Counted.In(zone))]
			switch {
			case first != i:
				s.fate.Keeps = false
				s.fate.Why = c.Each.String() + " is kept at this age, and that is the one of " +
					list[first].Counted.In(zone).Format("2 January 15:04")
			case age(*s) < ends:
				s.fate.Why = c.Each.String() + " is kept at this age"
			}
		}
		begins = ends
		if c.Span.Ever {
			return
		}
	}
	for i := range list {
		if s := &list[i]; age(*s) >= begins {
			s.fate.Keeps, s.fate.Why = false, "it is older than "+total(l)
		}
	}
}

// firsts gives, by bucket, the backup that stands for it: the first good one, or the first.
func (c Clause) firsts(zone *time.Location, list []state, in func(state) bool) map[int64]int {
	out := map[int64]int{}
	for i, s := range list {
		if !in(s) || c.Each.Count == 0 {
			continue
		}
		b := c.Each.bucket(s.Counted.In(zone))
		if now, any := out[b]; !any || !list[now].Good && s.Good {
			out[b] = i
		}
	}
	return out
}

// total is how long all clauses last together, in the words of the last one's unit.
func total(l Long) string {
	sum := time.Duration(0)
	for _, c := range l {
		sum += c.Span.Duration()
	}
	unit := Hour
	for _, u := range []Unit{Day, Week, Month, Year} {
		if sum >= 2*lasts[u] {
			unit = u
		}
	}
	return Span{Count: int((sum + lasts[unit]/2) / lasts[unit]), Unit: unit}.String()
}
