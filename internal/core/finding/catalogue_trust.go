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
	FactTerms       FactID = "terms"
	FactSignOut     FactID = "sign-out"
	FactEncryption  FactID = "encryption certificate"
	FactAppKeys     FactID = "keys of the app"
	FactWants       FactID = "what the app wants"
)

// Key is the ID of a fact as programs are told it, in place of the words that ledgers hold.
func (f FactID) Key() string {
	keys := map[FactID]string{FactSignIn: "signInEndpoint", FactToken: "tokenEndpoint", FactKeys: "signingKeys",
		FactEntityID: "entityID", FactACS: "assertionConsumerService", FactStart: "startLink", FactClientID: "clientID",
		FactRedirect: "redirectURI", FactAdmission: "admission", FactSignOut: "signOut",
		FactEncryption: "encryptionCertificate", FactAppKeys: "appKeys", FactWants: "wantedAttributes"}
	if k := keys[f]; k != "" {
		return k
	}
	return string(f)
}

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
		{FactTerms, "", "What is signed, encrypted and allowed between the two."},
		{FactSignOut, "SAML Profiles 4.4 and OpenID Connect RP-Initiated Logout 2", "Where each learns of a sign-out."},
		{FactEncryption, "SAML Metadata 2.4.1.1", "The certificate to which assertions are encrypted."},
		{FactAppKeys, "SAML Metadata 2.4.1.1 and OpenID Connect Core 9", "The keys with which the app signs."},
		{FactWants, "SAML Metadata 2.4.4.2", "The attributes that the app asks for."},
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

// Contradicts lists the facts of a trust that an error of an ID shows to be otherwise than the ledger has them; none
// where it says nothing of a fact, such as a clock that is wrong or a person who is refused as the terms demand.
func Contradicts(id ID) []FactID {
	return map[ID][]FactID{
		SAMLIssuer: {FactIssuer}, TokenIssuer: {FactIssuer}, OAuthIss: {FactIssuer}, DiscoveryIssuer: {FactIssuer},
		IntrospectionIss: {FactIssuer}, LogoutIssuer: {FactIssuer},
		SAMLSignatureKey: {FactKeys}, SAMLSignatureNokey: {FactKeys}, TokenSignature: {FactKeys},
		TokenKeyID:           {FactKeys},
		SAMLSignatureMissing: {FactTerms}, SAMLSignatureWeak: {FactTerms}, SAMLSignatureAssertion: {FactTerms},
		SAMLSignatureAlgorithm: {FactTerms}, SAMLUnsolicited: {FactTerms}, OAuthUnauthorizedClient: {FactTerms},
		TokenRegisteredAlg: {FactTerms}, TokenAlg: {FactTerms}, TrustEncryption: {FactTerms, FactEncryption},
		SAMLEncryption: {FactEncryption, FactTerms}, RequestSignatureMissing: {FactTerms, FactAppKeys},
		RequestSignatureKey: {FactAppKeys}, RequestSignatureNokey: {FactAppKeys},
		SAMLAudience: {FactEntityID}, RequestIssuer: {FactEntityID},
		SAMLDestination: {FactACS}, SAMLRecipient: {FactACS}, RequestACS: {FactACS},
		RequestDestination: {FactSignIn}, ProbeElsewhere: {FactSignIn},
		OAuthRedirect: {FactRedirect}, OAuthClientID: {FactClientID}, TokenAudience: {FactClientID},
		TokenClient: {FactClientID}, TokenAZP: {FactClientID}, IntrospectionClientID: {FactClientID},
		OAuthInvalidClient: {FactClientID}, ProbeSecret: {FactClientID},
		InspectRefused: {FactClientID, FactRedirect, FactACS, FactPermissions},
		ProbeUnknown:   {FactClientID, FactEntityID, FactRedirect, FactACS}, ProbeStart: {FactStart},
		OAuthInvalidScope: {FactPermissions}, OAuthInvalidTarget: {FactPermissions}, TokenScope: {FactPermissions},
		OAuthInsufficientScope: {FactPermissions}, CallRefused: {FactPermissions},
		SAMLSubject: {FactClaims}, TokenSubject: {FactClaims}, RequestFormat: {FactClaims}, ClaimsDiffer: {FactClaims},
		ClaimsMissing: {FactClaims}, ClaimsRequired: {FactClaims},
		AccountExpected: {FactClaims}, AccountUnknown: {FactClaims},
		SAMLStrength: {FactAdmission}, SubjectDomain: {FactAdmission}, SubjectTenant: {FactAdmission},
		TokenACR:            {FactAdmission},
		RequestAuthnContext: {FactAdmission},
		LogoutDestination:   {FactSignOut}, LogoutSignatureKey: {FactSignOut},
	}[id]
}

// AsTheTermsDemand reports whether an error of an ID is a refusal by the terms of the trust themselves: the person is
// none whom it admits. It contradicts nothing.
func AsTheTermsDemand(id ID) bool {
	return id == SAMLAdmission || id == OAuthAccessDenied || id.Of(PolicyFamily) && id != PolicyAdmitted
}
