package reach

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
)

// Told is what a registration endpoint answered.
type Told struct {
	Status int
	Type   string // media type
	Bytes  []byte
}

// Register asks a registration endpoint, or the configuration endpoint of a client (RFC 7591, section 3; RFC 7592,
// section 2), with a token; "" asks without. Nothing is sent on where the server would lead to another place. Errors:
// those of Fetch.
func Register(ctx context.Context, method, at, token string, body []byte, o Options) (*Told, error) {
	to, err := o.trip(ctx, at)
	if err != nil {
		return nil, err
	}
	defer to.end()
	req, err := http.NewRequestWithContext(to.ctx, method, at, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", "application/json")
	if len(body) > 0 {
		req.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := to.client.Do(req)
	if err != nil {
		return nil, explain(Shown(at), o, err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(bounded(resp.Body, o.Max, Shown(at)))
	if late := to.ctx.Err(); late != nil {
		return nil, explain(Shown(at), o, late)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", Shown(at), err)
	}
	return &Told{resp.StatusCode, resp.Header.Get("Content-Type"), b}, nil
}
