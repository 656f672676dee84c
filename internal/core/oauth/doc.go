// Package oauth has the rules of an authorization server (RFC 6749, RFC 9700, OpenID Connect Core) and of the client
// that talks to it: which requests and answers are good, who has to agree, which tokens are issued and for how long.
// It knows no HTTP; what was issued is kept in a State that the caller gives it, and times and randomness are passed
// in.
//
// # Judged once, by whoever asks
//
// The stage that plays a provider, the client that it plays, inspect with a captured message and a watch of a real
// sign-in judge by the same functions. What differs is what they know: a stage has the request that an answer answers,
// a captured answer comes alone. So each judgement takes what it can be given, says of the rest that it was not
// checked, and never takes a missing value for a good one.
//
// # State is a contract
//
// Codes are used once, refresh tokens rotate, and an older one that comes again ends its chain, since one of the two
// who had it stole it (RFC 9700, section 4.14.2). All of that is a race: two requests with one code arrive in the same
// moment, and one alone may get tokens. The rules here cannot hold that by themselves; they ask a State whose methods
// decide and note in one step (UseCode, Rotate, Once say whether one was first). A State that looks first and writes
// afterwards breaks the contract, however rarely. A chain (Family) is one sign-in with all that came of it, so that a
// consent that is withdrawn, a trust that ends or a token that is revoked ends everything that hangs on it at once.
//
// # What is refused to whom
//
// An error is told to the client by redirect only once the client and its redirect URI are known to be good; before
// that it is told to the person (RFC 6749, section 4.1.2.1). Otherwise the provider would be an open redirector, and
// the error a way to make it send people anywhere. An empty parameter counts as absent (section 3.1), and a repeated
// one refuses the request: of two values nobody can say which was meant.
package oauth
