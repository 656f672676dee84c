package play

import (
	"context"
	"fmt"
	"runtime"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
	"tressik.example/internal/stage"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/op"
	"tressik.example/internal/stage/rehearse"
)

// Many rehearses one trust many times, on several stages at once that share a cast, and keeps nothing. persons are
// those whom the scripts name; each script is of the trust alone. The results are in the order of the scripts.
func (d *Player) Many(ctx context.Context, trust string, scripts []rehearse.Script, persons []people.Person) (
	[]federation.Rehearsal, error) {
	c, made, err := d.castOf([]string{trust}, cast.Options{Secret: d.stageSecrets(map[string]string{}),
		Holder: cast.Holders(d.Rand, d.Now)}, persons,
		func(p *federation.Party) bool { return p.Own })
	if err != nil {
		return nil, err
	}
	accounts, err := d.accountsOf([]string{trust})
	if err != nil {
		return nil, err
	}
	out := make([]federation.Rehearsal, len(scripts))
	var next atomic.Int64
	var g errgroup.Group
	for range min(runtime.GOMAXPROCS(0), len(scripts)) {
		g.Go(func() error {
			notes := op.NoNotes()
			notes.Keys = clientKeysAt
			s, err := stage.New(stage.Options{Now: d.Now, Rand: d.Rand, Notes: notes, Record: true, CarryOn: true,
				Follows: func(string) bool { return true }})
			if err == nil {
				err = s.Play(c)
			}
			if err != nil {
				return err
			}
			for {
				i := int(next.Add(1)) - 1
				if i >= len(scripts) || ctx.Err() != nil {
					return ctx.Err()
				}
				x := scripts[i]
				x.Trusts, x.Accounts = []string{trust}, accounts
				list, err := rehearse.Run(s, x, rehearse.Hear{})
				if err != nil {
					return err
				}
				if len(list) != 1 {
					return fmt.Errorf("%s cannot be rehearsed", trust)
				}
				out[i] = list[0]
			}
		})
	}
	err = g.Wait()
	d.keepKeys(made)
	return out, err
}
