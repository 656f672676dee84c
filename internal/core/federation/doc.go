// Package federation is the model of Tressik and its rules: providers, apps, and the trusts between them.
//
// # One trust, two protocols
//
// A Trust has what every trust has (who may sign in, how strongly, which claims are released, where it stands and what
// that rests on) and exactly one set of Terms. SAML and OpenID Connect differ in how a side is named, where messages
// go, what is signed with which key and how the other side learns of another; they do not differ in who is admitted,
// in what an account is, or in what makes a trust live. So the terms are an interface of few questions, each protocol
// has its type, and Held chooses between them when a record is read. A branch on the protocol elsewhere would be a
// second place where a third protocol has to be thought of; a test of the house counts them.
//
// # Standing is worked out, and never set
//
// A trust is drafted, exchanged, rehearsed, live, paused or ended. Nobody writes that down: each method that changes
// what a trust rests on (somebody was handed something, a rehearsal held, a term changed, a key was replaced) calls
// settle, which looks at all of it again. The alternative, to set the standing where the change is made, was a defect
// each time a new kind of change came: it forgot a case, and a trust stayed rehearsed that nobody had rehearsed as it
// was by then.
//
// # Admission fails closed
//
// Whom a trust admits is a rule in words, since people write it. It is parsed in one place (Admission), into groups
// and persons, and whatever cannot be read admits nobody: a word of a later version, a slip of the hand, a
// half-written record. The stage, the previews, the checks and the rehearsals ask the same value, and get with each
// refusal the rule that refused.
//
// # What cannot be known
//
// Of a foreign party the ledger has what it published and what was entered. Comparing both sides says whether those
// fit; it never says that a sign-in works. That is proven by runs: of stand-ins, by asking the real party, by watching
// a real sign-in; each proves what took part in it and nothing else.
package federation
