package watch

import (
	"bufio"
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"tressik.example/internal/outside/reach"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/server"
)

// doorAt is where a running stage lets itself be watched; no party lies under such a name.
const doorAt = "/.watch"

// Door lets another process of the same user watch trusts on a running stage. Where it is and the token that opens it
// stand in a file beside the ledger that only its owner can read.
type Door struct {
	Base  string `json:"base"`
	Token string `json:"token"`
	Pin   string `json:"certificate,omitempty"` // SHA-256 of the stage's own certificate, hex
	path  string
	k     *play.Keeper
}

// OpenDoor makes the door of a stage. Close it afterwards.
func OpenDoor(k *play.Keeper, ledger, base, pin string) (*Door, error) {
	b := make([]byte, 32)
	if _, err := rand.Read(b); err != nil {
		return nil, err
	}
	d := &Door{Base: base, Pin: pin, Token: base64.RawURLEncoding.EncodeToString(b), k: k,
		path: fmt.Sprintf("%s.stage-%d", ledger, os.Getpid())}
	doc, err := json.Marshal(d)
	if err != nil {
		return nil, err
	}
	os.Remove(d.path) // of a process that is gone
	f, err := os.OpenFile(d.path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	_, err = f.Write(doc)
	return d, errors.Join(err, f.Close())
}

// Close takes the door away.
func (d *Door) Close() { os.Remove(d.path) }

// order is what is asked at a door, line what comes back: first how the trust is played, then events.
type order struct {
	Trust, Secret string
	CA            []byte
	Real          []string
	For           string // the side that is to be given a sheet; "" watches
}

type line struct {
	How   *play.Following `json:"how,omitempty"`
	Event *server.Event   `json:"event,omitempty"`
	Error string          `json:"error,omitempty"`
	Sheet *play.Played    `json:"sheet,omitempty"`
}

// Around serves the door before a stage.
func (d *Door) Around(stage http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == doorAt && r.Method == http.MethodGet:
			fmt.Fprint(w, d.proof(r.URL.Query().Get("asked")))
			return
		case r.URL.Path != doorAt:
			stage.ServeHTTP(w, r)
			return
		}
		got := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
		if r.Method != http.MethodPost || subtle.ConstantTimeCompare([]byte(got), []byte(d.Token)) != 1 {
			http.Error(w, "this is for the ledger's owner", http.StatusForbidden)
			return
		}
		d.follow(w, r)
	})
}

func (d *Door) follow(w http.ResponseWriter, r *http.Request) {
	var o order
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&o); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	if o.For != "" {
		d.hand(w, o)
		return
	}
	events := make(chan server.Event, 64)
	how, end, err := d.k.Follow(play.Follow{Trust: o.Trust, Secret: o.Secret, CA: o.CA,
		Real: o.Real}, func(e server.Event) {
		select {
		case events <- e:
		case <-r.Context().Done():
		}
	})
	rc := http.NewResponseController(w)
	_ = rc.SetWriteDeadline(time.Time{}) // the watch may wait for long; not every server has a deadline
	enc := json.NewEncoder(w)
	if err != nil {
		_ = enc.Encode(line{Error: err.Error()}) // whoever watched went away
		return
	}
	defer end()
	if enc.Encode(line{How: how}) != nil || rc.Flush() != nil {
		return
	}
	for {
		select {
		case e := <-events:
			e.Key = e.SignedBy() // the key itself stays here
			if enc.Encode(line{Event: &e}) != nil || rc.Flush() != nil {
				return
			}
		case <-r.Context().Done():
			return
		}
	}
}

// hand answers with what a side has to be given of this stage.
func (d *Door) hand(w http.ResponseWriter, o order) {
	var out line
	var err error
	if out.Sheet, err = d.k.Played(o.Trust, o.For); err != nil {
		out.Error = err.Error()
	}
	_ = json.NewEncoder(w).Encode(out) // whoever asked went away
}

// ErrNoStage means that no stage of the ledger is running.
var ErrNoStage = errors.New("no stage of this ledger is running")

// Stages lists the doors of the running stages of a ledger.
func Stages(ledger string) ([]*Door, error) {
	list, err := filepath.Glob(escapeGlob(ledger) + ".stage-*")
	if err != nil {
		return nil, err
	}
	var out []*Door
	for _, path := range list {
		b, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		d := &Door{path: path}
		if json.Unmarshal(b, d) == nil && d.Token != "" {
			out = append(out, d)
		}
	}
	return out, nil
}

func escapeGlob(s string) string {
	return strings.NewReplacer(`*`, `\*`, `?`, `\?`, `[`, `\[`, `\`, `\\`).Replace(s)
}

// Attach watches a trust on a running stage of a ledger: hear gets its events until ctx ends or the stage does; gone is
// closed then. Errors: ErrNoStage, and what the stage says.
func Attach(ctx context.Context, ledger string, f play.Follow, hear func(server.Event)) (how *play.Following,
	gone <-chan struct{}, err error) {
	doors, err := Stages(ledger)
	if err != nil {
		return nil, nil, err
	}
	for _, d := range doors {
		how, gone, err := d.attach(ctx, f, hear)
		if errors.Is(err, ErrNoStage) {
			os.Remove(d.path) // its process is gone, and could not take it away
			continue
		}
		return how, gone, err
	}
	return nil, nil, ErrNoStage
}

// Sheet asks a running stage of a ledger what a side of a trust must be given to try it there; side is app or provider.
// Errors: ErrNoStage, and what the stage says.
func Sheet(ctx context.Context, ledger, trust, side string) (*play.Played, error) {
	doors, err := Stages(ledger)
	if err != nil {
		return nil, err
	}
	for _, d := range doors {
		_, first, end, err := d.ask(ctx, order{Trust: trust, For: side})
		if errors.Is(err, ErrNoStage) {
			os.Remove(d.path)
			continue
		}
		if err != nil {
			return nil, err
		}
		end()
		if first.Sheet == nil {
			return nil, fmt.Errorf("the stage at %s says: %s", d.Base, first.Error)
		}
		return first.Sheet, nil
	}
	return nil, ErrNoStage
}

// proof is what only who has the door's token can answer to a question.
func (d *Door) proof(asked string) string {
	m := hmac.New(sha256.New, []byte(d.Token))
	m.Write([]byte("the stage of this ledger, asked " + asked))
	return hex.EncodeToString(m.Sum(nil))
}

// ErrOther means that somebody else than the stage of the ledger answers at its address.
var ErrOther = errors.New("somebody else answers there")

// proves asks whether it is the stage that answers at the door's address, before anything is sent there: neither the
// token nor a client's secret is for whoever took the address of a stage that was killed. Errors: ErrOther, ErrNoStage
// where the stage's process is gone.
func (d *Door) proves(ctx context.Context, client *http.Client) error {
	b := make([]byte, 16)
	if _, err := rand.Read(b); err != nil {
		return err
	}
	asked := hex.EncodeToString(b)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, d.Base+doorAt+"?asked="+asked, nil)
	if err != nil {
		return err
	}
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	got, err := io.ReadAll(io.LimitReader(resp.Body, 256))
	if err == nil && resp.StatusCode == http.StatusOK &&
		subtle.ConstantTimeCompare(got, []byte(d.proof(asked))) == 1 {
		return nil
	}
	if !d.lives() {
		return fmt.Errorf("%w: its process is gone, and %w", ErrNoStage, ErrOther)
	}
	return ErrOther
}

// lives reports whether the process that made the door is there.
func (d *Door) lives() bool {
	_, id, _ := strings.Cut(filepath.Base(d.path), ".stage-")
	pid, err := strconv.Atoi(id)
	return err != nil || !errors.Is(syscall.Kill(pid, 0), syscall.ESRCH)
}

// ask gives a stage an order, and reads the first line of its answer. end closes it.
func (d *Door) ask(ctx context.Context, o order) (lines *json.Decoder, first line, end func() error, err error) {
	client, err := reach.Client(reach.Options{Pin: d.Pin})
	if err != nil {
		return nil, first, nil, err
	}
	client.Timeout = 0 // it lasts as long as the watch does
	switch err := d.proves(ctx, client); {
	case err == nil:
	case ctx.Err() != nil: // whoever asked gave up, which says nothing of the stage
		return nil, first, nil, fmt.Errorf("asking the stage at %s: %w", d.Base, ctx.Err())
	case errors.Is(err, syscall.ECONNREFUSED): // nobody listens there any more
		return nil, first, nil, fmt.Errorf("%w: %v", ErrNoStage, err)
	case errors.Is(err, ErrNoStage):
		return nil, first, nil, err
	default:
		return nil, first, nil, fmt.Errorf("the stage at %s does not answer: %w", d.Base, err)
	}
	body, err := json.Marshal(o)
	if err != nil {
		return nil, first, nil, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, d.Base+doorAt, strings.NewReader(string(body)))
	if err != nil {
		return nil, first, nil, err
	}
	req.Header.Set("Authorization", "Bearer "+d.Token)
	resp, err := client.Do(req)
	if err != nil {
		return nil, first, nil, fmt.Errorf("the stage at %s does not answer: %w", d.Base, cmp.Or(ctx.Err(), err))
	}
	lines = json.NewDecoder(bufio.NewReader(resp.Body))
	if resp.StatusCode != http.StatusOK || lines.Decode(&first) != nil {
		resp.Body.Close()
		return nil, first, nil, fmt.Errorf("the stage at %s does not answer its own ledger: %s", d.Base, resp.Status)
	}
	return lines, first, resp.Body.Close, nil
}

func (d *Door) attach(ctx context.Context, f play.Follow,
	hear func(server.Event)) (*play.Following, <-chan struct{}, error) {
	lines, first, end, err := d.ask(ctx, order{Trust: f.Trust, Secret: f.Secret, CA: f.CA, Real: f.Real})
	if err != nil {
		return nil, nil, err
	}
	if first.How == nil {
		end()
		return nil, nil, fmt.Errorf("the stage at %s says: %s", d.Base, first.Error)
	}
	gone := make(chan struct{})
	go func() {
		defer close(gone)
		defer end()
		for {
			var l line
			if lines.Decode(&l) != nil {
				return
			}
			if l.Event != nil {
				hear(*l.Event)
			}
		}
	}()
	return first.How, gone, nil
}
