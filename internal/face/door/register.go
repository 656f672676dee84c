package door

import (
	"context"
	"errors"
	"mime"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/registrar"
)

func itoa(n int) string { return strconv.Itoa(n) }

// register serves the registration endpoint of a provider (RFC 7591, section 3), and below it the configuration
// endpoint of each client (RFC 7592, section 2).
func (d *Door) register(w *answer, r *http.Request, p *federation.Party, clientID, endpoint string) {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Pragma", "no-cache")
	if !d.rates.let(d.remote(r).String()) {
		w.Header().Set("Retry-After", "10")
		problem(w, http.StatusTooManyRequests, "too many requests came from this address")
		return
	}
	methods := []string{http.MethodPost}
	if clientID != "" {
		methods = []string{http.MethodGet, http.MethodPut, http.MethodDelete}
	}
	if !strings.Contains(" "+strings.Join(methods, " ")+" ", " "+r.Method+" ") {
		w.Header().Set("Allow", strings.Join(methods, ", "))
		problem(w, http.StatusMethodNotAllowed, "that is no method of this endpoint")
		return
	}
	token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok || token == "" {
		w.Header().Set("WWW-Authenticate", `Bearer`)
		problem(w, http.StatusUnauthorized, "a token is needed here, as Authorization: Bearer TOKEN")
		return
	}
	in, err := d.request(w, r, p, clientID, token)
	if err == nil {
		err = d.act(w, r, in, endpoint)
	}
	d.refused(w, r, err)
}

// request reads who asks for what.
func (d *Door) request(w *answer, r *http.Request, p *federation.Party, clientID, token string) (registrar.Request,
	error) {
	var in registrar.Request
	var seen *model.Registrar
	err := d.Ledger.View(r.Context(), func(v model.View) (err error) {
		k := &registrar.Keeper{Desk: desk.New(model.Open(v, d.Ledger.Env()))}
		if clientID == "" {
			in.By, err = k.Of(token)
			seen = in.By
		} else {
			seen, in.Reg, err = k.Holder(registrar.TrustOf(clientID, p.Name), token)
			in.By = seen
		}
		return err
	})
	if err == nil && in.By.Registrar.Provider != p.Name {
		err = registrar.ErrToken
	}
	if seen != nil {
		w.who = seen.Registrar.Name
	}
	if err != nil {
		if seen != nil { // one who is known tried what is not theirs
			err = errors.Join(err, d.note(r.Context(), seen, r.Method+" "+clientID))
		}
		return in, err
	}
	if r.Method == http.MethodGet || r.Method == http.MethodDelete {
		return in, nil
	}
	if t, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil || t != "application/json" {
		return in, &oidc.RegistrationError{Code: oidc.InvalidClientMetadata,
			Description: "the Content-Type of a registration is application/json"}
	}
	b, err := body(w, r)
	if err != nil {
		return in, err
	}
	if in.Meta, err = oidc.ReadClientMetadata(b); err != nil {
		return in, err
	}
	if uri := in.Meta.JWKSURI; uri != "" {
		if refused := in.By.Registrar.Within(in.Meta); refused != nil { // nothing is fetched for what is refused
			return in, nil
		}
		if in.Keys, err = d.Fetch(r.Context(), uri); err != nil {
			return in, &oidc.RegistrationError{Code: oidc.InvalidClientMetadata, Field: "jwks_uri",
				Description: "the keys there cannot be read: " + err.Error()}
		}
	}
	return in, nil
}

// note journals an attempt.
func (d *Door) note(ctx context.Context, r *model.Registrar, what string) error {
	return d.do(ctx, r, func(k *registrar.Keeper) error {
		now, err := k.Find(r.Registrar.Name)
		if err != nil {
			return err
		}
		return k.Refuse(now, what)
	})
}

// do changes the ledger as a registrar.
func (d *Door) do(ctx context.Context, r *model.Registrar, f func(*registrar.Keeper) error) error {
	env := d.Ledger.Env()
	env.Actor = r.Registrar.Actor()
	return ledger.Updater(d.Ledger.Update).Do(ctx, env, func(b *model.Book) error {
		return f(&registrar.Keeper{Desk: desk.New(b)})
	})
}

// act does what is asked for, and answers.
func (d *Door) act(w *answer, r *http.Request, in registrar.Request, endpoint string) error {
	var info *oidc.ClientInformation
	var refused *oidc.RegistrationError
	err := d.do(r.Context(), in.By, func(k *registrar.Keeper) (err error) {
		switch {
		case in.Reg == nil:
			info, refused, err = k.Register(in)
		case r.Method == http.MethodGet:
			info, refused, err = k.Read(in)
		case r.Method == http.MethodPut:
			info, refused, err = k.Replace(in)
		default:
			refused, err = k.Delete(in)
		}
		return err
	})
	switch {
	case err != nil:
		return err
	case refused != nil:
		return refused
	case info == nil:
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	info.RegistrationURI = registrar.Address(endpoint, info.ClientID)
	status := http.StatusOK
	if in.Reg == nil {
		status = http.StatusCreated
		d.made.Add(1)
	}
	write(w, status, info)
	return nil
}

// refused answers what went wrong, as the standards have it.
func (d *Door) refused(w *answer, r *http.Request, err error) {
	var refused *oidc.RegistrationError
	switch {
	case err == nil:
	case errors.As(err, &refused):
		status := http.StatusBadRequest
		if refused.Description == "it is too large" {
			status = http.StatusRequestEntityTooLarge
		}
		write(w, status, refused)
	case errors.Is(err, registrar.ErrToken):
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
		write(w, http.StatusUnauthorized, map[string]string{"error": "invalid_token",
			"error_description": "the token is not accepted here"})
	case r.Context().Err() != nil:
	default:
		d.Log.Error("registration", "problem", err.Error())
		w.Header().Set("Retry-After", "5")
		problem(w, http.StatusServiceUnavailable, "the ledger could not be changed now; try again")
	}
}

// rates bound how often an address may ask.
type rates struct {
	mu   sync.Mutex
	left map[string]float64
	at   time.Time
}

// perSecond and burst are how often one address may use the registration endpoint.
const (
	perSecond = 20
	burst     = 100
)

// let reports whether an address may ask once more.
func (l *rates) let(host string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	gained := now.Sub(l.at).Seconds() * perSecond
	for h, n := range l.left { // who has asked little is forgotten
		if l.left[h] = n + gained; l.left[h] >= burst {
			delete(l.left, h)
		}
	}
	l.at = now
	if l.left == nil {
		l.left = map[string]float64{}
	}
	n, asked := l.left[host]
	if !asked {
		n = burst
	}
	l.left[host] = n - 1
	return n >= 1
}
