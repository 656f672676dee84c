package finding

// FactID is the stable name of a value on which a trust rests.
type FactID string

// The facts of trusts.
const (
	FactIssuer      FactID = "issuer"
	FactSignIn      FactID = "sign-in endpoint"
	FactToken       FactID = "token endpoint"
	FactKeys        FactID = "signing keys"
	FactEntityID    FactID = "entity ID of the app"
	FactACS         FactID = "assertion consumer service"
	FactStart       FactID = "start link"
	FactClientID    FactID = "client ID"
	FactRedirect    FactID = "redirect URI"
	FactPermissions FactID = "permissions"
	FactClaims      FactID = "claims"
	FactAdmission   FactID = "who is admitted"
)

// FactEntry says what a fact is.
type FactEntry struct {
	ID    FactID `json:"id"`
	Ref   string `json:"ref,omitempty"`
	Means string `json:"means"`
}

// Facts lists on which facts trusts rest.
func Facts() []FactEntry {
	return []FactEntry{
		{FactIssuer, "SAML Core 2.2.5 and OpenID Connect Discovery 3", "The name by which the provider issues."},
		{FactSignIn, "SAML Metadata 2.4.3 and RFC 8414 2", "Where the app sends people to sign in."},
		{FactToken, "RFC 8414 2", "Where the app redeems codes and asks for tokens."},
		{FactKeys, "SAML Metadata 2.4.1.1 and RFC 7517 5", "The keys with which the provider signs."},
		{FactEntityID, "SAML Metadata 2.3.2", "The name by which the provider knows the app."},
		{FactACS, "SAML Metadata 2.4.4", "Where the app receives responses."},
		{FactStart, "", "The link that starts a sign-in at the app."},
		{FactClientID, "RFC 6749 2.2", "The name by which the provider knows the client."},
		{FactRedirect, "RFC 6749 3.1.2", "Where the client receives answers."},
		{FactPermissions, "RFC 6749 3.3", "What the client asks for."},
		{FactClaims, "", "The subject and the claims that are released."},
		{FactAdmission, "", "Who may sign in, and how strongly."},
	}
}

// StepID is the stable name of a step of the work on a trust. A step that mends a finding has the Key of the finding.
type StepID string

// The steps of the work on a trust.
const (
	StepEnded     StepID = "ended"
	StepParties   StepID = "parties"
	StepMade      StepID = "made"
	StepHandoff   StepID = "handoff" // with the side that is handed something
	StepPeople    StepID = "people"
	StepClaims    StepID = "claims"
	StepClientID  StepID = "client-id"
	StepAsks      StepID = "asks"
	StepRedirect  StepID = "redirect"
	StepConsents  StepID = "consents"
	StepRehearsed StepID = "rehearsed"
	StepProbed    StepID = "probed"
	StepWatched   StepID = "watched"
	StepLive      StepID = "live"
)

// For returns the step for one side.
func (s StepID) For(side string) StepID { return s + "." + StepID(side) }

// StepEntry says what a step is.
type StepEntry struct {
	ID    StepID `json:"id"`
	Means string `json:"means"`
}

// Steps lists the steps of the work on a trust, in their order.
func Steps() []StepEntry {
	return []StepEntry{
		{StepEnded, "The trust has ended, and nothing is left to do."},
		{StepParties, "Both parties are in the ledger."},
		{StepMade, "The trust is made."},
		{StepHandoff.For("app"), "The app has what it needs of the provider."},
		{StepHandoff.For("provider"), "The provider has what it needs of the app."},
		{StepPeople, "There are people to try the trust on."},
		{StepClaims, "Claims are released."},
		{StepClientID, "The client ID that a foreign provider issued is known."},
		{StepAsks, "The client asks for what it needs."},
		{StepRedirect, "A redirect URI is registered."},
		{StepConsents, "No permission waits for an administrator."},
		{StepRehearsed, "A rehearsal succeeded."},
		{StepProbed, "The real other side was asked."},
		{StepWatched, "A real sign-in was watched."},
		{StepLive, "The trust is live."},
	}
}
