// Package xmlsec reads XML strictly and signs, verifies, encrypts and decrypts it (XML Signature 1.1, Exclusive
// XML Canonicalization 1.0, XML Encryption 1.1).
//
// # Why it is narrow
//
// A signature over XML does not cover bytes. It covers the canonical form of a part of a tree, and says which
// part by an ID. Between what was signed and what somebody acts upon lie three readings: that of the parser, that
// of whoever looks for the ID, and that of whoever looks for the assertion. Nearly every forgery of a SAML
// message is a document which two of them read differently: a comment that cuts a name in two, an entity that
// grows while it is read, two elements with one ID, a signed part that was moved aside and an unsigned one in its
// place, a prefix that means something else further down.
//
// So the reader here is deliberately narrower than XML: no document type, no entity beyond the predefined five,
// no processing instruction inside the document element, bounded size and depth, unique IDs, every prefix bound.
// What it accepts has one reading only, so that what was signed and what is read cannot differ.
//
// # Why what is verified is handed back
//
// Verify gives back the element that the signature covers, and a judge reads that element and nothing else. It
// does not answer "is this document signed", because that question has no safe use: the answer is true of a part,
// and the caller would go on with the whole. The one reference must name, by its ID, the element in which the
// signature stands; of transforms there are the enveloped signature and one canonicalization after it; an Object,
// in which content could hide, and whatever else the standard allows is refused by name. Keys are never taken
// from the message: the policy brings them.
//
// # Why there is a stream
//
// Metadata of a federation is a document of hundreds of megabytes under one signature at its head. VerifyStream
// digests it while it goes by and gives out one entity at a time. What it gave out counts only once it has
// returned without an error, since only the last byte tells whether the signature holds; whoever uses it gathers
// first and believes then.
//
// # What decryption says
//
// One thing: that it could not be decrypted, whichever step failed. To tell them apart would answer a question
// that an attacker may ask a million times, until the plain text is known.
package xmlsec
