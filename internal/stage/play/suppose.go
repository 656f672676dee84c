package play

import (
	"crypto/x509"
	"errors"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/span"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/model"
	"tressik.example/internal/stage/cast"
)

// suppose reads what is supposed of a trust.
func (d *Player) suppose(t *federation.Trust, in RehearseInput) (x cast.Suppose, err error) {
	read, known := d.supposing(t)
	x.Scope, x.Secret = in.Scope, in.Secret // a trust over SAML has neither, and no call
	if len(in.Call) > 0 {
		x.First = in.Call[0]
	}
	for _, s := range in.Suppose {
		key, v, ok := strings.Cut(s, "=")
		switch {
		case !ok || v == "":
			return x, finding.Errorf("%s %q is %w: write KEY=VALUE", finding.FieldSuppose, s, model.ErrValue)
		case key == "clock":
			back := strings.HasPrefix(v, "-")
			if x.Clock, err = span.Parse(strings.TrimLeft(v, "+-")); back {
				x.Clock = -x.Clock
			}
			if err != nil {
				return x, finding.Errorf("%s clock=%s is %w: write a time span such as +10m or -90s",
					finding.FieldSuppose, v, model.ErrValue)
			}
			continue
		case key == "key" && v != "other":
			return x, finding.Errorf("%s key=%s is %w: write key=other", finding.FieldSuppose, v, model.ErrValue)
		}
		err := read(&x, key, v)
		if errors.Is(err, errUnknownKey) {
			return x, finding.Errorf("%s %s is %w: over %s known are %s", finding.FieldSuppose, key, model.ErrValue,
				t.Over(), known)
		}
		if err != nil {
			return x, err
		}
	}
	return x, nil
}

var errUnknownKey = errors.New("unknown key")

// supposing is how what is supposed is read over the protocol of a trust, and what may be supposed there.
func (d *Player) supposing(t *federation.Trust) (read func(x *cast.Suppose, key, v string) error, known string) {
	if t.Over() == federation.OverOIDC {
		return d.supposeOIDC, "redirect, client-id, secret, clock and from (of the app) and key (of the provider)"
	}
	return d.supposeSAML, "acs, entity-id, service, clock, force-authn and is-passive (of the app) and key (of the " +
		"provider)"
}

func (d *Player) supposeSAML(x *cast.Suppose, key, v string) (err error) {
	switch key {
	case "acs":
		x.ACS = v
		return model.CheckURL(finding.FieldSuppose, v)
	case "entity-id":
		x.EntityID = v
		return nil
	case "service":
		if _, err := strconv.ParseUint(v, 10, 16); err != nil {
			return finding.Errorf("%s service=%s is %w: write the index of an AttributeConsumingService",
				finding.FieldSuppose, v, model.ErrValue)
		}
		x.Service = v
		return nil
	case "force-authn", "is-passive":
		if v != "on" {
			return finding.Errorf("%s %s=%s is %w: write %s=on", finding.FieldSuppose, key, v, model.ErrValue, key)
		}
		x.ForceAuthn, x.IsPassive = x.ForceAuthn || key == "force-authn", x.IsPassive || key == "is-passive"
		return nil
	case "key":
		k, err := keys.Generate(d.Rand, "rsa-2048")
		if err != nil {
			return err
		}
		var cert *x509.Certificate
		if cert, err = keys.SelfSign(d.Rand, k, "a key nobody knows", "", d.Now(), 24*time.Hour); err != nil {
			return err
		}
		x.Signer = &xmlsec.Signer{Key: k, Certificate: cert, Rand: d.Rand}
		return nil
	}
	return errUnknownKey
}

func (d *Player) supposeOIDC(x *cast.Suppose, key, v string) (err error) {
	switch key {
	case "redirect":
		if u, err := url.Parse(v); err != nil || u.Scheme == "" {
			return finding.Errorf("%s redirect=%s is %w: write a whole URI", finding.FieldSuppose, v, model.ErrValue)
		}
		x.Redirect = v
		return nil
	case "client-id":
		x.ClientID = v
		return nil
	case "secret": // no secret itself: what is supposed is kept, and stands in the list of processes
		if v != "other" {
			return finding.Errorf("%s secret=… is %w: write secret=other; to try the real one use %s",
				finding.FieldSuppose, model.ErrValue, finding.FieldSecretFile)
		}
		x.Secret = "another secret"
		return nil
	case "from":
		if x.From, err = netip.ParseAddr(v); err != nil {
			return finding.Errorf("%s from=%s is %w: write an address such as 192.0.2.7", finding.FieldSuppose, v,
				model.ErrValue)
		}
		return nil
	case "key":
		k, err := keys.Generate(d.Rand, "ecdsa-p256")
		if err != nil {
			return err
		}
		x.JOSE, err = oidc.NewSigner(k)
		return err
	}
	return errUnknownKey
}
