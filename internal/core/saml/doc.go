// Package saml reads, writes and judges SAML 2.0 metadata and messages: the Web Browser SSO profile with its Redirect
// and POST bindings. Times and randomness are passed in; nothing here reads a file, a clock or the network.
//
// # Reading a response
//
// The order of the checks is the safety of it. First the shape, by a reader that knows no document type and no entity
// but the five. Then where signatures stand: a signature anywhere but as the child of what it signs refuses the
// message, whoever made it, because the elements that are moved about in a forged message are good ones, and only
// their place is wrong. Then the signature is verified with the keys that the ledger has of the provider, never with
// one that the message brings. From there on nothing of the document is read but the very element that was signed: a
// second assertion, a comment that splits a name, an element with the same ID have no way in. What follows, audience,
// recipient, times, one-time use, is compared as SAML Profiles 4.1.4 says, and every check is made and told, not the
// first that fails alone, since whoever mends a federation wants to know all that is wrong with it.
//
// # Exact strings, and help
//
// Entity IDs, audiences and URLs are compared as strings, byte for byte, as the standard has it. Most that goes wrong
// between two sides is one character of them, so each comparison that fails says which of the known values is nearest,
// and how it differs.
//
// # What is written
//
// Elements are written in the order and number of the schemas (SAML Core, chapter 3; SAML Metadata, chapter 2): other
// products validate. A test holds what is written to the cardinalities of the standard.
package saml
