package saml

import (
	"errors"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/xmlsec"
)

// ReadFinding turns an error of reading XML into a finding.
func ReadFinding(err error) finding.Finding {
	f := finding.Finding{ID: finding.XMLMalformed, Level: finding.Error, Check: "XML", Saw: err.Error(),
		Expected: "well-formed XML",
		Side:     finding.Sender, Fix: finding.Do("capture the message whole and unchanged")}
	for _, c := range []struct {
		err     error
		id      finding.ID
		want, f string
	}{
		{xmlsec.ErrEmpty, finding.XMLEmpty, "a document", "capture the message whole"},
		{xmlsec.ErrDTD, finding.XMLDTD, "no document type",
			"refuse it: a document type in a SAML message is an attack or a broken product"},
		{xmlsec.ErrEntity, finding.XMLEntity, "only the five predefined entities",
			"refuse it: entities are how files and memory are attacked"},
		{xmlsec.ErrHTML, finding.XMLHTML, "a SAML document",
			"this is a web page: the URL leads to a sign-in or error page, not to the document"},
		{xmlsec.ErrTooLarge, finding.XMLSize, "a document of ordinary size",
			"refuse it, or find out why it is so large"},
		{xmlsec.ErrTooDeep, finding.XMLDepth, "elements nested as in SAML", "refuse it"},
		{xmlsec.ErrDuplicateID, finding.XMLDuplicateID, "each ID once",
			"refuse it: an ID that is there twice is how signed messages are forged"},
		{xmlsec.ErrTruncated, finding.XMLTruncated, "a whole document",
			"capture the message whole; a part of it is missing"},
	} {
		if errors.Is(err, c.err) {
			f.ID, f.Expected, f.Fix = c.id, c.want, finding.Do(c.f)
		}
	}
	return f
}
