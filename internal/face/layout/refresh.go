package layout

import (
	"fmt"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/refresh"
)

// Differences are what a party publishes otherwise than before, those that touch trust marked and first.
func Differences(list []federation.Difference) []string {
	var out []string
	for _, touches := range []bool{true, false} {
		for i := range list {
			if list[i].Trust != touches {
				continue
			}
			mark := "  "
			if touches {
				mark = "! "
			}
			words, sum, long := strings.Cut(list[i].Words(), ", SHA-256 ")
			out = append(out, "    "+mark+words)
			if long { // a fingerprint is not wrapped
				out = append(out, "        SHA-256 "+sum)
			}
		}
	}
	return out
}

// Refreshed is what came of reading parties again: first what waits and what failed.
func Refreshed(list []refresh.Result, how refresh.How) format.Page {
	kind := how.Kind
	if how.Due && len(list) == 0 {
		return format.Page{Data: list, Blocks: []format.Block{{Lines: []string{"No " + string(kind) +
			" is due to be read again."}}}}
	}
	count := map[string]int{}
	b := format.Block{}
	for _, outcome := range []string{refresh.Waits, refresh.Failed, refresh.Taken, refresh.ByHand, refresh.Unchanged} {
		for _, r := range list {
			if r.Outcome != outcome {
				continue
			}
			count[outcome]++
			switch outcome {
			case refresh.Waits:
				b.Lines = append(b.Lines, "  waits   "+r.Party+": it touches trust (!), and nothing was changed")
			case refresh.Failed:
				b.Lines = append(b.Lines, "  FAILED  "+r.Party+": "+r.Why+"; what was there stays")
			case refresh.Taken:
				b.Lines = append(b.Lines, "  taken   "+r.Party)
			case refresh.ByHand:
				b.Lines = append(b.Lines, "  by hand "+r.Party+": it was not read from an address")
			}
			b.Lines = append(b.Lines, Differences(r.Differences)...)
			if len(r.Trusts) > 0 {
				b.Lines = append(b.Lines, "      to be handed over and rehearsed again: "+strings.Join(r.Trusts, ", "))
			}
			if !r.Fix.IsZero() {
				b.Lines = append(b.Lines, "      "+format.Remedy(r.Fix))
			}
		}
	}
	sum := fmt.Sprintf("%d waiting, %d failed, %d taken, %d by hand, %d unchanged", count[refresh.Waits],
		count[refresh.Failed],
		count[refresh.Taken], count[refresh.ByHand], count[refresh.Unchanged])
	if len(list) == 0 {
		sum = fmt.Sprintf("There is no foreign %s yet. Add the first with `tressik %s add NAME --metadata "+
			"SOURCE`.", kind,
			kind)
	}
	return format.Page{Data: list, Blocks: []format.Block{b, {Lines: []string{sum}}}}
}
