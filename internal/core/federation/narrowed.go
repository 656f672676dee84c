package federation

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Narrowed is what a permission is narrowed to: certain records, an amount, or both (RFC 9396, section 2). nil is the
// whole permission.
type Narrowed struct {
	Records []string `json:"records,omitempty"` // none: any
	Most    float64  `json:"most,omitempty"`    // 0: any amount
}

// Covers reports whether what is narrowed in this way holds all of another.
func (n *Narrowed) Covers(o *Narrowed) bool {
	if n == nil {
		return true
	}
	if o == nil {
		return false
	}
	for _, r := range o.Records {
		if len(n.Records) > 0 && !slices.Contains(n.Records, r) {
			return false
		}
	}
	return (len(n.Records) == 0 || len(o.Records) > 0) && (n.Most == 0 || o.Most > 0 && o.Most <= n.Most)
}

// Words say to what a permission is narrowed; "" for the whole.
func (n *Narrowed) Words(p *Permission) string {
	if n == nil {
		return ""
	}
	var out []string
	if len(n.Records) > 0 {
		out = append(out, "only "+strings.Join(n.Records, ", "))
	}
	if n.Most > 0 {
		unit := ""
		if p != nil && p.Amount != "" {
			unit = " " + p.Amount
		}
		out = append(out, "at most "+strconv.FormatFloat(n.Most, 'f', -1, 64)+unit)
	}
	return strings.Join(out, "; ")
}

// Full is the label of an ask with what it is narrowed to.
func (a Ask) Full(apis map[string]*Party) string {
	var p *Permission
	if x := apis[a.API]; x != nil {
		p = x.API.Find(a.Name)
	}
	if w := a.Narrowed.Words(p); w != "" {
		return a.Label() + " (" + w + ")"
	}
	return a.Label()
}

// Detail is an ask as authorization details have it (RFC 9396, section 2): its type is the permission's name, its
// location the API's audience. nil where it is not narrowed.
func (a Ask) Detail(apis map[string]*Party) map[string]any {
	x := apis[a.API]
	if a.Narrowed == nil || x == nil || x.API.Find(a.Name) == nil {
		return nil
	}
	p := x.API.Find(a.Name)
	out := map[string]any{"type": a.Name, "locations": []string{x.API.Audience}}
	if len(a.Narrowed.Records) > 0 && p.Records != "" {
		out[p.Records] = a.Narrowed.Records
	}
	if a.Narrowed.Most > 0 && p.Amount != "" {
		out[p.Amount] = a.Narrowed.Most
	}
	return out
}

// Details are the authorization details of those of the asks that are narrowed.
func Details(asks []Ask, apis map[string]*Party) (out []map[string]any) {
	for _, a := range asks {
		if d := a.Detail(apis); d != nil {
			out = append(out, d)
		}
	}
	return out
}

// MaxRecords is how many records a permission may be narrowed to, and how long the name of each may be.
const (
	MaxRecords = 50
	maxRecord  = 120
)

// CheckNarrowed refuses what a permission cannot be narrowed to. Errors: ErrFit, ErrValue.
func CheckNarrowed(label string, p *Permission, n *Narrowed) error {
	switch {
	case n == nil:
		return nil
	case len(n.Records) > 0 && p.Records == "":
		return fmt.Errorf("narrowing %s to records %w: its API publishes no member that names records", label, ErrFit)
	case n.Most != 0 && p.Amount == "":
		return fmt.Errorf("narrowing %s to an amount %w: its API publishes no member that bounds one", label, ErrFit)
	case len(n.Records) > MaxRecords:
		return fmt.Errorf("%d records of %s: %w, at most %d are named", len(n.Records), label, ErrValue, MaxRecords)
	case n.Most < 0 || n.Most > 1e12:
		return fmt.Errorf("the amount %g of %s is %w", n.Most, label, ErrValue)
	case len(n.Records) == 0 && n.Most == 0:
		return fmt.Errorf("%s is narrowed to nothing: %w", label, ErrValue)
	}
	for _, r := range n.Records {
		if r == "" || len(r) > maxRecord {
			return fmt.Errorf("the record %q of %s is %w: write 1 to %d characters", r, label, ErrValue, maxRecord)
		}
	}
	return nil
}
