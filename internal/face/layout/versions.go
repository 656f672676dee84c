package layout

import (
	"fmt"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/refresh"
)

// VersionTold is a version with what was different from the one before.
type VersionTold struct {
	Number      int                     `json:"number"`
	At          time.Time               `json:"at"`
	Entity      string                  `json:"entity,omitempty"`
	Issuer      string                  `json:"issuer,omitempty"`
	Differences []federation.Difference `json:"differences"`
}

// History is what a foreign party published over time, oldest first.
func History(party string, list []federation.Version) format.Page {
	data := make([]VersionTold, len(list))
	var lines []string
	for i := range list {
		v := &list[i]
		data[i] = VersionTold{v.Number, v.At, v.Party.Entity.ID, "", []federation.Difference{}}
		if v.Party.OpenID != nil {
			data[i].Issuer = v.Party.OpenID.Discovery.Issuer
		}
		line := fmt.Sprintf("  %s:%d  since %s", party, v.Number, v.At.UTC().Format("2006-01-02 15:04 UTC"))
		if i == len(list)-1 {
			line += ", as it is now"
		}
		lines = append(lines, line)
		if i == 0 {
			continue
		}
		if d := federation.Differences(&list[i-1].Party, &v.Party); len(d) > 0 {
			data[i].Differences = d
		}
		lines = append(lines, Differences(data[i].Differences)...)
	}
	return format.Page{Data: data, Blocks: []format.Block{{Lines: lines}}}
}

// Compared is what is different between two that publish.
func Compared(a, b string, list []federation.Difference) format.Page {
	lines := []string{"From " + a + " to " + b + ": " + format.Count(len(list), "difference")}
	if federation.TouchTrust(list, false) {
		lines[0] += ", some of which touch trust (!)"
	}
	if list == nil {
		list = []federation.Difference{}
	}
	return format.Page{Data: list, Blocks: []format.Block{{Lines: append(lines, Differences(list)...)}}}
}

// Restored is what came of giving a party back what it published before.
func Restored(party string, number int, list []federation.Difference, stale []string) format.Page {
	lines := []string{fmt.Sprintf("%s is what it was at version %d", party, number)}
	if len(list) == 0 {
		list = []federation.Difference{}
		lines[0] += " already; nothing was changed"
	}
	lines = append(lines, Differences(list)...)
	if len(stale) > 0 {
		lines = append(lines, "  to be handed over and rehearsed again: "+strings.Join(stale, ", "))
	}
	return format.Page{Data: refresh.Restored{Differences: list, Party: party, Trusts: append([]string{}, stale...),
		Version: number},
		Blocks: []format.Block{{Lines: lines}}}
}
