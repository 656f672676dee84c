package federation

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// The ways in which a trust is made live.
const (
	Whole  = "whole"        // people are sent to the provider straight away
	Beside = "side by side" // the app's own sign-in stays beside it
	Pilot  = "pilot"        // for a group alone; for the others all is as before
)

// Cutover is how and when a trust is made live.
type Cutover struct {
	Way     string    `json:"way"`
	Group   string    `json:"group,omitempty"` // of a pilot
	From    time.Time `json:"from,omitzero"`   // planned, or done
	Until   time.Time `json:"until,omitzero"`  // of a window: after it the plan has lapsed
	Zone    string    `json:"zone,omitempty"`  // IANA time zone in which it was planned; "" is UTC
	Back    string    `json:"wayBack"`         // what people use where it has to be taken back, in words
	By      string    `json:"by"`
	Despite string    `json:"despite,omitempty"` // why it was done although something was wanting
	// Wanting are the findings that it was allowed despite, each by its ID and what was looked at; another one stops it
	Wanting []string `json:"wanting,omitempty"`
	Done    bool     `json:"done"`
	Before  Standing `json:"before,omitempty"` // what taking it back returns to
}

// Errors of a cutover that callers test for.
var (
	ErrNotLive = errors.New("is not live")
	ErrLive    = errors.New("is live already")
)

// PlanCutover keeps a plan; nothing is live by it. Errors: ErrLive.
func (t *Trust) PlanCutover(c Cutover) error {
	if t.Standing == Live && t.Cutover != nil && t.Cutover.Way == Whole {
		return fmt.Errorf("%s %w", t.Name, ErrLive)
	}
	c.Done = false
	c.Before = t.Standing
	if t.Standing == Live && t.Cutover != nil { // from a pilot to all
		c.Before = t.Cutover.Before
	}
	t.Plan = &c
	return nil
}

// When says when it is to be: in the zone in which it was planned, and in UTC where that is another.
func (c *Cutover) When() string {
	utc := c.From.UTC().Format("2006-01-02 15:04 UTC")
	at, zone := c.Local(c.From)
	if zone == "UTC" {
		return utc
	}
	return at.Format("2006-01-02 15:04") + " " + zone + " (" + utc + ")"
}

// Local is a moment in the zone in which the cutover was planned, and that zone's name; UTC where none was said.
func (c *Cutover) Local(at time.Time) (time.Time, string) {
	zone, err := time.LoadLocation(c.Zone)
	if err != nil || c.Zone == "" {
		return at.UTC(), "UTC"
	}
	return at.In(zone), c.Zone
}

// GoLive carries a plan out.
func (t *Trust) GoLive(now time.Time) {
	c := *t.Plan
	c.Done, c.From = true, now.UTC()
	t.Cutover, t.Plan, t.Standing = &c, nil, Live
}

// GoBack returns to what was before the cutover. Errors: ErrNotLive.
func (t *Trust) GoBack() error {
	if t.Plan != nil && t.Standing != Live && t.Standing != Paused {
		t.Plan = nil
		return nil
	}
	if t.Cutover == nil || t.Standing != Live && t.Standing != Paused {
		return fmt.Errorf("%s %w", t.Name, ErrNotLive)
	}
	t.Cutover, t.Plan, t.Standing = nil, nil, ""
	t.settle()
	return nil
}

// Pause switches a live trust off for a while, Resume on again. Errors: ErrNotLive.
func (t *Trust) Pause(off bool) error {
	from, to := Live, Paused
	if !off {
		from, to = Paused, Live
	}
	if t.Standing != from {
		return fmt.Errorf("%s %w; it is %s", t.Name, map[bool]error{true: ErrNotLive,
			false: errors.New("is not paused")}[off],
			t.Standing)
	}
	t.Standing = to
	return nil
}

// SendsAway reports whether an app sends people to the provider straight away: a trust that is live as a whole.
func (t *Trust) SendsAway() bool {
	return t.Standing == Live && t.Cutover != nil && t.Cutover.Way == Whole
}

// twice reports whether a time of the clock comes twice on its day.
func twice(t time.Time) bool {
	for _, d := range []time.Duration{-time.Hour, time.Hour} {
		if o := t.Add(d); o.Hour() == t.Hour() && o.Minute() == t.Minute() {
			return true
		}
	}
	return false
}

// ErrWindow is for a window that cannot be meant.
var ErrWindow = errors.New("not a window that can be used")

// Window finds the next time of a window such as "Sun 02:00-04:00" after now, in a zone. Errors: ErrWindow; where the
// clocks change in it, it names how: then it is shorter, longer, or begins at a time that is not there.
func Window(s string, now time.Time, zone *time.Location) (from, until time.Time, err error) {
	bad := func(why string) (time.Time, time.Time, error) {
		return time.Time{}, time.Time{}, fmt.Errorf("%q is %w: %s; write it as \"Sun 02:00-04:00\"", s, ErrWindow, why)
	}
	day, hours, ok := strings.Cut(strings.TrimSpace(s), " ")
	if !ok {
		return bad("it has no day and hours")
	}
	days := []string{"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"}
	wd := slices.IndexFunc(days, func(d string) bool { return strings.EqualFold(d, day) })
	if wd < 0 {
		return bad(day + " is no day of the week: " + strings.Join(days, ", "))
	}
	a, b, ok := strings.Cut(strings.TrimSpace(hours), "-")
	begin, err1 := time.Parse("15:04", strings.TrimSpace(a))
	end, err2 := time.Parse("15:04", strings.TrimSpace(b))
	if !ok || err1 != nil || err2 != nil {
		return bad("its hours cannot be read")
	}
	if begin.Equal(end) {
		return bad("it is empty")
	}
	here := now.In(zone)
	for n := 0; n <= 14; n++ {
		d := here.AddDate(0, 0, n)
		if int(d.Weekday()) != wd {
			continue
		}
		from = time.Date(d.Year(), d.Month(), d.Day(), begin.Hour(), begin.Minute(), 0, 0, zone)
		last := d
		if !end.After(begin) {
			last = d.AddDate(0, 0, 1)
		}
		until = time.Date(last.Year(), last.Month(), last.Day(), end.Hour(), end.Minute(), 0, 0, zone)
		if !until.After(now) {
			continue
		}
		want := end.Sub(begin)
		if want <= 0 {
			want += 24 * time.Hour
		}
		if from.Hour() != begin.Hour() || from.Minute() != begin.Minute() || until.Sub(from) != want {
			return bad(fmt.Sprintf("the clocks of %s change in it on %s, so that it lasts %s: choose another, or "+
				"give it "+
				"in UTC",
				zone, from.Format("2006-01-02"), until.Sub(from)))
		}
		if twice(from) || twice(until) {
			return bad(fmt.Sprintf("the clocks of %s go back on %s, so that an hour of it comes twice: choose "+
				"another, or "+
				"give it in UTC",
				zone, from.Format("2006-01-02")))
		}
		if from.Before(now) {
			from = now
		}
		return from.UTC(), until.UTC(), nil
	}
	return bad("there is none within two weeks")
}
