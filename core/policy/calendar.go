package policy

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // where the machine has no zones of its own

	"wladder/core/written"
)

// Span is a time that comes every week, or once: a window or a freeze.
type Span struct {
	Name    string `yaml:"name"`
	Because string `yaml:"because"`
	Where   string `yaml:"where"` // over expr.LabelVars; every host where it is empty
	// Days are weekdays on which a span that comes again begins, by their English names; all of
	// them where there is none.
	Days []string `yaml:"days"`
	// From and To are both a time of day (22:00), or both a date with one (2027-01-06 08:00). A
	// To that is not later than From is on the next day; 24:00 is the day's end.
	From string `yaml:"from"`
	To   string `yaml:"to"`
	Zone string `yaml:"zone"` // such as Europe/Vienna; see the IANA time zone database
	// Returns: held has a freeze hold temporary changes that go back, too.
	Returns string `yaml:"returns"`
}

var (
	timeOfDay = regexp.MustCompile(`^([01][0-9]|2[0-3]):[0-5][0-9]$|^24:00$`)
	weekdays  = map[string]time.Weekday{"sunday": 0, "monday": 1, "tuesday": 2, "wednesday": 3, "thursday": 4, "friday": 5, "saturday": 6}
)

const dated = "2006-01-02 15:04"

// once tells whether the span has a date.
func (s Span) once() bool { return !timeOfDay.MatchString(s.From) }

func (p *Policy) checkSpans(bad *written.Problems, key string, spans []Span) {
	seen := map[string]bool{}
	for i, s := range spans {
		at := fmt.Sprintf("%s: number %d (%s): ", key, i+1, s.Name)
		if strings.TrimSpace(s.Name) == "" {
			bad.Add("%sname: is empty; people are told by it why nothing starts", at)
		} else if seen[s.Name] {
			bad.Add("%sanother has this name", at)
		}
		seen[s.Name] = true
		if err := fits(s.Where); err != nil {
			bad.Add("%swhere: %v", at, err)
		}
		if s.Zone == "" || s.Zone == "Local" {
			bad.Add("%szone: is empty; want one such as Europe/Vienna, or UTC", at)
		} else if _, err := time.LoadLocation(s.Zone); err != nil {
			bad.Add("%szone: %q is not a time zone; want one such as Europe/Vienna, or UTC", at, s.Zone)
		}
		if s.Returns != "" && (s.Returns != "held" || key == "windows") {
			bad.Add("%sreturns: %q; want held, of a freeze, or nothing", at, s.Returns)
		}
		for _, day := range s.Days {
			if _, known := weekdays[day]; !known {
				bad.Add("%sdays: %q is not a weekday; want monday to sunday", at, day)
			}
		}
		if err := s.check(); err != nil {
			bad.Add("%s%v", at, err)
		}
	}
}

func (s Span) check() error {
	if !s.once() {
		if !timeOfDay.MatchString(s.To) || s.From == "24:00" {
			return fmt.Errorf("from: %q, to: %q: want two times of day such as 22:00, or two dates with one", s.From, s.To)
		}
		return nil
	}
	from, err1 := time.Parse(dated, s.From)
	to, err2 := time.Parse(dated, s.To)
	switch {
	case err1 != nil || err2 != nil:
		return fmt.Errorf("from: %q, to: %q: want two times of day such as 22:00, or two dates with one such as 2027-01-06 08:00", s.From, s.To)
	case !to.After(from):
		return errors.New("to: is not after from")
	case len(s.Days) > 0:
		return errors.New("days: are for spans that come every week; this one has a date")
	}
	return nil
}

// moment gives when a wall clock shows a time. The hour that comes twice in autumn gives two
// moments: the earlier or the later of them, as asked; for one that spring skips it is the
// moment of the skip.
func moment(wall time.Time, zone *time.Location, later bool) time.Time {
	_, before := wall.Add(-24 * time.Hour).In(zone).Zone()
	_, after := wall.Add(24 * time.Hour).In(zone).Zone()
	a, b := wall.Add(-time.Duration(before)*time.Second), wall.Add(-time.Duration(after)*time.Second)
	shows := func(t time.Time) bool {
		_, offset := t.In(zone).Zone()
		return t.Add(time.Duration(offset) * time.Second).Equal(wall)
	}
	switch first, second := shows(a), shows(b); {
	case first && second:
		if a.After(b) == later {
			return a
		}
		return b
	case first:
		return a
	case second:
		return b
	}
	_, skip := b.In(zone).ZoneBounds() // b is before the skip
	return skip
}

// occurrence is one time at which a span is in progress, up to and without its end.
type occurrence struct{ from, to time.Time }

func (o occurrence) holds(now time.Time) bool { return !now.Before(o.from) && now.Before(o.to) }

// around gives the occurrences of a span from the day before now until a week after. In the
// hour that comes twice, wide takes the longer reading and narrow the shorter: a freeze is
// read wide and a window narrow, so that in doubt nothing moves.
func (s Span) around(now time.Time, wide bool) (all []occurrence) {
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		return nil
	}
	if s.once() {
		from, err1 := time.Parse(dated, s.From)
		to, err2 := time.Parse(dated, s.To)
		if err1 != nil || err2 != nil {
			return nil
		}
		return []occurrence{{moment(from, zone, !wide), moment(to, zone, wide)}}
	}
	from, to := clock(s.From), clock(s.To)
	if to <= from {
		to += 24 * time.Hour
	}
	year, month, today := now.In(zone).Date()
	for day := -1; day <= 8; day++ {
		midnight := time.Date(year, month, today+day, 0, 0, 0, 0, time.UTC)
		if len(s.Days) == 0 || slices.ContainsFunc(s.Days, func(name string) bool { return weekdays[name] == midnight.Weekday() }) {
			all = append(all, occurrence{moment(midnight.Add(from), zone, !wide), moment(midnight.Add(to), zone, wide)})
		}
	}
	return all
}

// clock gives a time of day as the span since midnight.
func clock(text string) time.Duration {
	var hour, minute time.Duration
	fmt.Sscanf(text, "%d:%d", &hour, &minute)
	return hour*time.Hour + minute*time.Minute
}

// Coming is one time at which a window is open, or a freeze holds.
type Coming struct {
	Freeze  bool      `json:"freeze,omitempty"`
	Name    string    `json:"name"`
	Because string    `json:"because,omitempty"`
	Where   string    `json:"where,omitempty"` // on which hosts; all where it is empty
	From    time.Time `json:"from"`
	To      time.Time `json:"to"`
	Zone    string    `json:"zone"` // in which people reckon
}

// Ahead gives the windows and freezes that are in progress at a time or begin before another,
// the earliest first.
func (p *Policy) Ahead(from, to time.Time) []Coming {
	all := []Coming{}
	add := func(spans []Span, freeze bool) {
		for _, s := range spans {
			seen := map[time.Time]bool{}
			for day := from; day.Before(to.Add(7 * 24 * time.Hour)); day = day.Add(7 * 24 * time.Hour) {
				for _, o := range s.around(day, freeze) {
					if o.to.After(from) && o.from.Before(to) && o.to.After(o.from) && !seen[o.from] {
						seen[o.from] = true
						all = append(all, Coming{freeze, s.Name, s.Because, s.Where, o.from.UTC(), o.to.UTC(), s.Zone})
					}
				}
			}
		}
	}
	add(p.Windows, false)
	add(p.Freezes, true)
	slices.SortStableFunc(all, func(a, b Coming) int { return a.From.Compare(b.From) })
	return all
}

// Hold is why hosts are left alone at a time.
type Hold struct {
	Freeze bool   // else a window is closed
	Name   string // of the freeze; of the windows, joined
	// Until is when it ends; zero where that is more than a week away.
	Until   time.Time
	Because string
	Zone    string // in which people reckon
}

func (h Hold) String() string {
	until := ""
	if zone, err := time.LoadLocation(h.Zone); err == nil && !h.Until.IsZero() {
		until = h.Until.In(zone).Format(" Mon 2006-01-02 15:04 MST")
	}
	because := ""
	if h.Because != "" {
		because = ": " + h.Because
	}
	if h.Freeze {
		return fmt.Sprintf("the freeze %q lasts until%s%s", h.Name, until, because)
	}
	if until == "" {
		return fmt.Sprintf("it is outside the window %q, which does not open within a week%s", h.Name, because)
	}
	return fmt.Sprintf("it is outside the window %q, which opens%s%s", h.Name, until, because)
}

// HoldsReturn gives why hosts with these labels are not to go back now from a temporary change:
// a freeze that says returns: held; nil where none does.
func (p *Policy) HoldsReturn(labels []map[string]string, now time.Time) (*Hold, error) {
	only := &Policy{Freezes: slices.DeleteFunc(slices.Clone(p.Freezes), func(s Span) bool { return s.Returns != "held" })}
	return only.Holds(labels, now)
}

// Holds gives why hosts with these labels are not to be started now; nil where nothing holds
// them. Of several reasons it is the one that lasts longest.
func (p *Policy) Holds(labels []map[string]string, now time.Time) (*Hold, error) {
	var held []Hold
	for _, s := range p.Freezes {
		yes, err := touches(s.Where, labels)
		if err != nil {
			return nil, err
		}
		if !yes {
			continue
		}
		for _, o := range s.around(now, true) {
			if o.holds(now) {
				held = append(held, Hold{Freeze: true, Name: s.Name, Until: o.to, Because: s.Because, Zone: s.Zone})
			}
		}
	}
	for _, l := range labels {
		closed, err := p.closed(l, now)
		if err != nil {
			return nil, err
		}
		if closed != nil {
			held = append(held, *closed)
		}
	}
	if len(held) == 0 {
		return nil, nil
	}
	worst := slices.MaxFunc(held, func(a, b Hold) int {
		if a.Until.IsZero() != b.Until.IsZero() {
			return map[bool]int{true: 1, false: -1}[a.Until.IsZero()]
		}
		return cmp.Compare(a.Until.UnixNano(), b.Until.UnixNano())
	})
	return &worst, nil
}

// closed tells that a host with these labels has windows, of which none is open; nil else.
func (p *Policy) closed(labels map[string]string, now time.Time) (*Hold, error) {
	var names []string
	h := Hold{}
	for _, s := range p.Windows {
		yes, err := touches(s.Where, []map[string]string{labels})
		if err != nil {
			return nil, err
		}
		if !yes {
			continue
		}
		names = append(names, s.Name)
		for _, o := range s.around(now, false) {
			if o.holds(now) {
				return nil, nil
			}
			if o.from.After(now) && o.to.After(o.from) && (h.Until.IsZero() || o.from.Before(h.Until)) && o.from.Sub(now) < 8*24*time.Hour {
				h.Until, h.Zone, h.Because = o.from, s.Zone, s.Because
			}
		}
	}
	if names == nil {
		return nil, nil
	}
	h.Name = strings.Join(names, ", ")
	return &h, nil
}
