package main

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/big"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"
)

// This test is a client built on golang.org/x/oauth2 and crypto/ecdsa, and on none of the product's own protocol code.

// jwk is a public key as RFC 7518, section 6 writes it.
type jwk struct{ Kty, Crv, Kid, Alg, Use, X, Y, N, E string }

// verified verifies a token with a JWKS of two keys and returns its header and claims.
func verified(t *testing.T, token, jwks string) (head, claims map[string]any) {
	t.Helper()
	var set struct {
		Keys []jwk
	}
	if _, body, h := get(t, jwks); json.Unmarshal([]byte(body), &set) != nil || len(set.Keys) != 2 ||
		h.Get("Content-Type") != "application/jwk-set+json" {
		t.Fatalf("JWKS: %s %v", body, h)
	}
	part := func(s string) []byte {
		b, err := base64.RawURLEncoding.DecodeString(s)
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	parts := strings.Split(token, ".")
	if len(parts) != 3 {
		t.Fatalf("no JWT: %q", token)
	}
	if json.Unmarshal(part(parts[0]), &head) != nil || json.Unmarshal(part(parts[1]), &claims) != nil {
		t.Fatal("no JSON in the token")
	}
	at := slices.IndexFunc(set.Keys, func(k jwk) bool {
		return k.Kid == head["kid"] && k.Alg == head["alg"] && k.Use == "sig"
	})
	if at < 0 {
		t.Fatalf("header %v, keys %+v", head, set.Keys)
	}
	k := set.Keys[at]
	sum := sha256.Sum256([]byte(parts[0] + "." + parts[1]))
	sig := part(parts[2])
	if k.Kty == "RSA" {
		pub := &rsa.PublicKey{N: new(big.Int).SetBytes(part(k.N)), E: int(new(big.Int).SetBytes(part(k.E)).Int64())}
		if k.Alg != "RS256" || rsa.VerifyPKCS1v15(pub, crypto.SHA256, sum[:], sig) != nil {
			t.Fatal("the signature does not verify")
		}
	} else if pub := (&ecdsa.PublicKey{Curve: elliptic.P256(), X: new(big.Int).SetBytes(part(k.X)),
		Y: new(big.Int).SetBytes(part(k.Y))}); k.Alg != "ES256" || len(sig) != 64 || !ecdsa.Verify(pub, sum[:],
		new(big.Int).SetBytes(sig[:32]), new(big.Int).SetBytes(sig[32:])) {
		t.Fatal("the signature does not verify")
	}
	for _, c := range []string{"iat", "exp", "auth_time"} { // integers, not floats
		if raw := string(part(parts[1])); claims[c] != nil &&
			!strings.Contains(raw, fmt.Sprintf(`"%s":%d`, c, int64(claims[c].(float64)))) {
			t.Errorf("%s is no integer in %s", c, raw)
		}
	}
	return head, claims
}

// assertionOf signs a client assertion with ES256 (RFC 7523).
func assertionOf(t *testing.T, k crypto.Signer, kid string, claims map[string]any) string {
	t.Helper()
	h, _ := json.Marshal(map[string]string{"alg": "ES256", "typ": "JWT", "kid": kid})
	c, _ := json.Marshal(claims)
	in := base64.RawURLEncoding.EncodeToString(h) + "." + base64.RawURLEncoding.EncodeToString(c)
	sum := sha256.Sum256([]byte(in))
	r, s, err := ecdsa.Sign(rand.Reader, k.(*ecdsa.PrivateKey), sum[:])
	if err != nil {
		t.Fatal(err)
	}
	sig := append(r.FillBytes(make([]byte, 32)), s.FillBytes(make([]byte, 32))...)
	return in + "." + base64.RawURLEncoding.EncodeToString(sig)
}

func TestStandardClient(t *testing.T) {
	t.Parallel()
	d := clients(t)
	secret := d.secret("dome-scheduler@ridge", "90d")
	courier := d.secret("frame-courier@ridge", "90d")
	d.ok("consent", "give", "frame-courier@ridge", "--for", "everyone")
	d.env = d.env[1:] // the real clock, as a client outside has it
	places, _ := openStage(t, d)
	e := discover(t, places["ridge"])
	ctx := context.Background()

	t.Run("web", func(t *testing.T) {
		cfg := &oauth2.Config{ClientID: d.clientID("dome-scheduler@ridge"), ClientSecret: secret,
			RedirectURL: loopCallback,
			Scopes:      []string{"openid", "profile", "email", "schedule.read", "offline_access"},
			Endpoint: oauth2.Endpoint{AuthURL: e.Authorization, TokenURL: e.Token,
				AuthStyle: oauth2.AuthStyleInHeader}}
		verifier := oauth2.GenerateVerifier()
		who := newAgent(t)
		x := who.signIn(cfg.AuthCodeURL("state-1", oauth2.S256ChallengeOption(verifier), oauth2.SetAuthURLParam("nonce",
			"nonce-1")), "mira")
		if x.to != loopCallback || x.status != http.StatusSeeOther || x.back.Get("state") != "state-1" ||
			x.back.Get("iss") != e.Issuer || x.back.Get("code") == "" {
			t.Fatalf("the answer: %+v", x)
		}
		tok, err := cfg.Exchange(ctx, x.back.Get("code"), oauth2.VerifierOption(verifier))
		if err != nil {
			t.Fatal(err)
		}
		if tok.TokenType != "Bearer" || tok.RefreshToken == "" || tok.Expiry.Before(time.Now().Add(10*time.Minute)) {
			t.Fatalf("%+v", tok)
		}
		idToken, _ := tok.Extra("id_token").(string)
		idHead, id := verified(t, idToken, e.JWKS)
		if !slices.Contains(e.Algs, "RS256") || idHead["alg"] != "RS256" {
			t.Errorf("discovery has %v, the ID token %v", e.Algs, idHead["alg"]) // OpenID Connect Core, section 15.1
		}
		sum := sha256.Sum256([]byte(tok.AccessToken))
		if id["iss"] != e.Issuer || id["aud"] != cfg.ClientID || id["nonce"] != "nonce-1" ||
			id["at_hash"] != base64.RawURLEncoding.EncodeToString(sum[:16]) || id["sub"] == "" ||
			id["auth_time"] == nil {
			t.Errorf("ID token: %v", id)
		}
		head, access := verified(t, tok.AccessToken, e.JWKS)
		if head["typ"] != "at+jwt" || head["alg"] != "ES256" || access["client_id"] != cfg.ClientID ||
			access["jti"] == "" ||
			!strings.Contains(fmt.Sprint(access["aud"]), "https://telescope.kestrelridge.example") {
			t.Errorf("access token: %v %v", head, access)
		}
		// Userinfo and the API take it.
		c := cfg.Client(ctx, tok)
		var info map[string]any
		resp, err := c.Get(e.Userinfo)
		if err != nil || json.NewDecoder(resp.Body).Decode(&info) != nil || info["sub"] != id["sub"] ||
			info["email"] != "mira.solano@kestrelridge.example" || info["given_name"] != "Mira" {
			t.Errorf("userinfo: %v %v", err, info)
		}
		var got struct{ Records []struct{ ID, Note string } }
		resp, err = c.Get(places["telescope-api"].Address + "/schedule.read")
		if err != nil || json.NewDecoder(resp.Body).Decode(&got) != nil || len(got.Records) != 3 {
			t.Errorf("API: %v %+v", err, got)
		}
		// Introspection and refresh, with rotation and the detection of reuse.
		in := post(t, e.Introspection, url.Values{"token": {tok.AccessToken}}, cfg.ClientID, secret)
		if in.body["active"] != true || in.body["client_id"] != cfg.ClientID ||
			in.header.Get("Cache-Control") != "no-store" {
			t.Errorf("introspection: %v", in)
		}
		old := tok.RefreshToken
		tok.Expiry = time.Now().Add(-time.Minute)
		tok2, err := cfg.TokenSource(ctx, tok).Token()
		if err != nil || tok2.RefreshToken == old || tok2.AccessToken == tok.AccessToken {
			t.Fatalf("refresh: %v", err)
		}
		if x := post(t, e.Token, url.Values{"grant_type": {"refresh_token"}, "refresh_token": {old}}, cfg.ClientID,
			secret); x.text("error") != "invalid_grant" {
			t.Errorf("a used refresh token: %v", x.raw)
		}
		if x := post(t, e.Token, url.Values{"grant_type": {"refresh_token"}, "refresh_token": {tok2.RefreshToken}},
			cfg.ClientID, secret); x.text("error") != "invalid_grant" {
			t.Errorf("the chain outlives the reuse: %v", x.raw)
		}
		if in := post(t, e.Introspection, url.Values{"token": {tok2.AccessToken}}, cfg.ClientID,
			secret); in.body["active"] != false || len(in.body) != 1 {
			t.Errorf("an access token outlives its chain: %v", in.raw)
		}
		// A second sign-in needs no page at all; revocation and sign-out.
		v2 := oauth2.GenerateVerifier()
		x = who.get(cfg.AuthCodeURL("state-2", oauth2.S256ChallengeOption(v2),
			oauth2.SetAuthURLParam("prompt", "none")))
		tok, err = cfg.Exchange(ctx, x.back.Get("code"), oauth2.VerifierOption(v2))
		if err != nil {
			t.Fatal(err)
		}
		if r := post(t, e.Revocation, url.Values{"token": {tok.RefreshToken}}, cfg.ClientID, secret); r.status != 200 ||
			r.raw != "" {
			t.Errorf("revocation: %+v", r)
		}
		if x := post(t, e.Token, url.Values{"grant_type": {"refresh_token"}, "refresh_token": {tok.RefreshToken}},
			cfg.ClientID, secret); x.text("error") != "invalid_grant" {
			t.Errorf("a revoked refresh token: %v", x.raw)
		}
		idToken, _ = tok.Extra("id_token").(string)
		x = who.get(e.EndSession + "?" + url.Values{"id_token_hint": {idToken}, "post_logout_redirect_uri": {loopBye},
			"state": {"bye"}}.Encode())
		if x.to != loopBye || x.back.Get("state") != "bye" {
			t.Errorf("sign-out: %+v", x)
		}
		if x = who.get(cfg.AuthCodeURL("state-3", oauth2.S256ChallengeOption(v2), oauth2.SetAuthURLParam("prompt",
			"none"))); x.back.Get("error") != "login_required" {
			t.Errorf("the session outlives the sign-out: %+v", x)
		}
	})

	t.Run("browser", func(t *testing.T) {
		cfg := &oauth2.Config{ClientID: d.clientID("skyview@ridge"), RedirectURL: "http://127.0.0.1:9/sky",
			Scopes:   []string{"openid", "offline_access"},
			Endpoint: oauth2.Endpoint{AuthURL: e.Authorization, TokenURL: e.Token, AuthStyle: oauth2.AuthStyleInParams}}
		verifier := oauth2.GenerateVerifier()
		x := newAgent(t).signIn(cfg.AuthCodeURL("s", oauth2.S256ChallengeOption(verifier)), "mira")
		tok, err := cfg.Exchange(ctx, x.back.Get("code"), oauth2.VerifierOption(verifier))
		if err != nil {
			t.Fatal(err)
		}
		tok.Expiry = time.Now().Add(-time.Minute)
		if tok, err = cfg.TokenSource(ctx, tok).Token(); err != nil || tok.Extra("id_token") == nil {
			t.Fatalf("refresh: %v", err)
		}
		// Its page may call the token endpoint from its own origin, and no other page may.
		for origin, want := range map[string]string{"http://127.0.0.1:9": "http://127.0.0.1:9",
			"https://elsewhere.example": ""} {
			req, _ := http.NewRequest("OPTIONS", e.Token, nil)
			req.Header.Set("Origin", origin)
			if r := send(t, req); r.header.Get("Access-Control-Allow-Origin") != want ||
				r.status != http.StatusNoContent {
				t.Errorf("preflight from %s: %d %v", origin, r.status, r.header)
			}
		}
	})

	t.Run("service", func(t *testing.T) {
		for style, name := range map[oauth2.AuthStyle]string{oauth2.AuthStyleInHeader: "basic",
			oauth2.AuthStyleInParams: "post"} {
			cfg := clientcredentials.Config{ClientID: d.clientID("frame-courier@ridge"), ClientSecret: courier,
				TokenURL: e.Token, AuthStyle: style, Scopes: []string{"frames.read"},
				EndpointParams: url.Values{"resource": {"https://telescope.kestrelridge.example"}}}
			tok, err := cfg.Token(ctx)
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			_, c := verified(t, tok.AccessToken, e.JWKS)
			if c["sub"] != cfg.ClientID || c["aud"] != "https://telescope.kestrelridge.example" ||
				c["scope"] != "frames.read" || tok.RefreshToken != "" || tok.Extra("id_token") != nil {
				t.Errorf("%s: %v", name, c)
			}
		}
	})

	t.Run("private_key_jwt", func(t *testing.T) {
		k, _, pub := clientKey(t)
		d.ok("trust", "change", "frame-courier@ridge", "--client-key", d.write("courier.pub", pub))
		time.Sleep(time.Second) // within which a running stage takes over what changes in the ledger
		var v struct {
			Terms struct{ OIDC struct{ JWKS string } }
		}
		d.json(&v, "trust", "show", "frame-courier@ridge")
		var set struct{ Keys []struct{ Kid string } }
		if json.Unmarshal([]byte(v.Terms.OIDC.JWKS), &set) != nil || len(set.Keys) != 1 {
			t.Fatal(v)
		}
		id := d.clientID("frame-courier@ridge")
		claims := map[string]any{"iss": id, "sub": id, "aud": e.Issuer, "jti": "j-1", "iat": time.Now().Unix(),
			"exp": time.Now().Add(time.Minute).Unix()}
		params := func(a string) url.Values {
			return url.Values{"client_assertion_type": {"urn:ietf:params:oauth:client-assertion-type:jwt-bearer"},
				"client_assertion": {a}}
		}
		a := assertionOf(t, k, set.Keys[0].Kid, claims)
		cfg := clientcredentials.Config{ClientID: id, TokenURL: e.Token, AuthStyle: oauth2.AuthStyleInParams,
			EndpointParams: params(a)}
		if _, err := cfg.Token(ctx); err != nil {
			t.Fatal(err)
		}
		other, _, _ := clientKey(t)
		for name, bad := range map[string]string{"used twice": a, "another key": assertionOf(t, other, set.Keys[0].Kid,
			claims)} {
			claims["jti"] = name
			if r := post(t, e.Token, url.Values{"grant_type": {"client_credentials"}, "client_assertion": {bad},
				"client_assertion_type": params("")["client_assertion_type"]}, "",
				""); r.text("error") != "invalid_client" ||
				r.status != 401 {
				t.Errorf("%s: %d %s", name, r.status, r.raw)
			}
		}
		for claim, wrong := range map[string]any{"aud": "https://elsewhere.example", "iss": "another", "sub": "another",
			"exp": time.Now().Add(-time.Hour).Unix(), "nbf": time.Now().Add(time.Hour).Unix(), "jti": ""} {
			c := map[string]any{"iss": id, "sub": id, "aud": e.Token, "jti": "j-" + claim,
				"exp": time.Now().Add(time.Minute).Unix()}
			c[claim] = wrong
			if r := post(t, e.Token, url.Values{"grant_type": {"client_credentials"}, "client_id": {id},
				"client_assertion":      {assertionOf(t, k, set.Keys[0].Kid, c)},
				"client_assertion_type": params("")["client_assertion_type"]}, "",
				""); r.text("error") != "invalid_client" ||
				r.text("access_token") != "" {
				t.Errorf("wrong %s: %s", claim, r.raw)
			}
		}
	})
}
