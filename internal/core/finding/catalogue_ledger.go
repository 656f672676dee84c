package finding

// The IDs of findings about what a ledger holds, and what runs see.
const (
	AccountCollisions ID = "account.collisions"
	AccountExpected   ID = "account.expected"
	AccountFound      ID = "account.found"
	AccountKnown      ID = "account.known"
	AccountNew        ID = "account.new"
	AccountNone       ID = "account.none"
	AccountShared     ID = "account.shared"
	AccountStrangers  ID = "account.strangers"
	AccountSwapped    ID = "account.swapped"
	AccountUnknown    ID = "account.unknown"

	AccountsNoKey ID = "accounts.no-key"
	AccountsTwice ID = "accounts.twice"

	APIAudience ID = "api.audience"

	ArrivalBound      ID = "arrival.bound"
	ArrivalDomain     ID = "arrival.domain"
	ArrivalExists     ID = "arrival.exists"
	ArrivalKept       ID = "arrival.kept"
	ArrivalKnown      ID = "arrival.known"
	ArrivalNew        ID = "arrival.new"
	ArrivalNoAddress  ID = "arrival.no-address"
	ArrivalUnknown    ID = "arrival.unknown"
	ArrivalUnset      ID = "arrival.unset"
	ArrivalUnverified ID = "arrival.unverified"

	CallAnswer  ID = "call.answer"
	CallAPI     ID = "call.api"
	CallNone    ID = "call.none"
	CallRecords ID = "call.records"
	CallRefused ID = "call.refused"
	CallStepUp  ID = "call.step-up"

	Certificate           ID = "certificate"
	CertificateDigest     ID = "certificate.digest"
	CertificateEarly      ID = "certificate.early"
	CertificateExpired    ID = "certificate.expired"
	CertificateExpiring   ID = "certificate.expiring"
	CertificateSuperseded ID = "certificate.superseded"

	ClaimsDiffer           ID = "claims.differ"
	ClaimsForbidden        ID = "claims.forbidden"
	ClaimsGap              ID = "claims.gap"
	ClaimsLacking          ID = "claims.lacking"
	ClaimsMissing          ID = "claims.missing"
	ClaimsNone             ID = "claims.none"
	ClaimsNotKnown         ID = "claims.not-known"
	ClaimsPromised         ID = "claims.promised"
	ClaimsRequired         ID = "claims.required"
	ClaimsSameSubject      ID = "claims.same-subject"
	ClaimsSubject          ID = "claims.subject"
	ClaimsUnasked          ID = "claims.unasked"
	ClaimsUnknownAttribute ID = "claims.unknown-attribute"
	ClaimsWanted           ID = "claims.wanted"

	ClientMachineRedirect ID = "client.machine-redirect"
	ClientNoRedirect      ID = "client.no-redirect"

	ConsentGiven   ID = "consent.given"
	ConsentRefused ID = "consent.refused"
	ConsentWaiting ID = "consent.waiting"

	CutoverAccounts     ID = "cutover.accounts"
	CutoverCheck        ID = "cutover.check"
	CutoverContact      ID = "cutover.contact"
	CutoverExpectations ID = "cutover.expectations"
	CutoverOwner        ID = "cutover.owner"
	CutoverPilot        ID = "cutover.pilot"
	CutoverProof        ID = "cutover.proof"
	CutoverWayBack      ID = "cutover.way-back"

	DueCertificate ID = "due.certificate"
	DueConsent     ID = "due.consent"
	DueKey         ID = "due.key"
	DueMetadata    ID = "due.metadata"
	DuePeople      ID = "due.people"
	DuePin         ID = "due.pin"
	DueReading     ID = "due.reading"
	DueSecret      ID = "due.secret"

	ExpectAccount   ID = "expect.account"
	ExpectCall      ID = "expect.call"
	ExpectClaim     ID = "expect.claim"
	ExpectHeld      ID = "expect.held"
	ExpectLife      ID = "expect.life"
	ExpectNone      ID = "expect.none"
	ExpectPerson    ID = "expect.person"
	ExpectRehearsal ID = "expect.rehearsal"
	ExpectRule      ID = "expect.rule"
	ExpectSubject   ID = "expect.subject"
	ExpectVerdict   ID = "expect.verdict"

	InspectUnjudged ID = "inspect.unjudged"
	InspectAnswer   ID = "inspect.answer"
	InspectRefused  ID = "inspect.refused"
	InspectUnknown  ID = "inspect.unknown"

	KeyWeak ID = "key.weak"

	PartyContact   ID = "party.contact"
	PeopleAddress  ID = "people.address"
	PeopleUUID     ID = "people.uuid"
	PartyLeft      ID = "party.left"
	PartySharedKey ID = "party.shared-key"

	PermissionUnknown ID = "permission.unknown"

	PrivilegeAsSelf      ID = "privilege.as-self"
	PrivilegeEverything  ID = "privilege.everything"
	PrivilegeIncluded    ID = "privilege.included"
	PrivilegeUnconsented ID = "privilege.unconsented"
	PrivilegeUnused      ID = "privilege.unused"
	PrivilegeWrite       ID = "privilege.write"

	ProbeAnswer      ID = "probe.answer"
	ProbeCall        ID = "probe.call"
	ProbeCertificate ID = "probe.certificate"
	ProbeClock       ID = "probe.clock"
	ProbeDiffers     ID = "probe.differs"
	ProbeDown        ID = "probe.down"
	ProbeElsewhere   ID = "probe.elsewhere"
	ProbeGone        ID = "probe.gone"
	ProbeKey         ID = "probe.key"
	ProbeKnown       ID = "probe.known"
	ProbeKnows       ID = "probe.knows"
	ProbeMoved       ID = "probe.moved"
	ProbeNobody      ID = "probe.nobody"
	ProbePublished   ID = "probe.published"
	ProbeRedirect    ID = "probe.redirect"
	ProbeRobot       ID = "probe.robot"
	ProbeSame        ID = "probe.same"
	ProbeScope       ID = "probe.scope"
	ProbeSecret      ID = "probe.secret"
	ProbeSlow        ID = "probe.slow"
	ProbeStale       ID = "probe.stale"
	ProbeStart       ID = "probe.start"
	ProbeThere       ID = "probe.there"
	ProbeTLS         ID = "probe.tls"
	ProbeToken       ID = "probe.token"
	ProbeUnknown     ID = "probe.unknown"
	ProbeUnpublished ID = "probe.unpublished"
	ProbeUnreadable  ID = "probe.unreadable"
	ProbeUnsure      ID = "probe.unsure"

	ProofLost ID = "proof.lost"
	ProofNone ID = "proof.none"
	ProofOld  ID = "proof.old"

	ProviderAdministrators ID = "provider.administrators"

	SecretExpiring ID = "secret.expiring"

	RegistrationChanged ID = "registration.changed"
	RegistrationUnread  ID = "registration.unread"

	CharterDrift  ID = "charter.drift"
	CharterUnread ID = "charter.unread"
	SecretLife    ID = "secret.life"
	SecretMany    ID = "secret.many"
	SecretUnused  ID = "secret.unused"

	Session ID = "session"

	SignoutApp       ID = "signout.app"
	SignoutElsewhere ID = "signout.elsewhere"
	SignoutPage      ID = "signout.page"
	SignoutProvider  ID = "signout.provider"

	SubjectDomain ID = "subject.domain"
	SubjectTenant ID = "subject.tenant"

	TrustAdmits           ID = "trust.admits"
	TrustAssertionsSigned ID = "trust.assertions-signed"
	TrustBinding          ID = "trust.binding"
	TrustClient           ID = "trust.client"
	TrustClientAuth       ID = "trust.client-auth"
	TrustClientID         ID = "trust.client-id"
	TrustClock            ID = "trust.clock"
	TrustEncryption       ID = "trust.encryption"
	TrustIDTokenAlg       ID = "trust.id-token-alg"
	TrustLogout           ID = "trust.logout"
	TrustOpenID           ID = "trust.openid"
	TrustOwner            ID = "trust.owner"
	TrustParty            ID = "trust.party"
	TrustSpeaksFor        ID = "trust.speaks-for"
	TrustSpeaksSame       ID = "trust.speaks-same"
	TrustPKCEOff          ID = "trust.pkce-off"
	TrustProtocol         ID = "trust.protocol"
	TrustRequestsSigned   ID = "trust.requests-signed"
	TrustSameEntityID     ID = "trust.same-entity-id"
	TrustSubjectFormat    ID = "trust.subject-format"

	Walk ID = "walk"

	WatchAbandoned  ID = "watch.abandoned"
	WatchDown       ID = "watch.down"
	WatchLedger     ID = "watch.ledger"
	WatchNobody     ID = "watch.nobody"
	WatchPerson     ID = "watch.person"
	WatchSaid       ID = "watch.said"
	WatchSignedIn   ID = "watch.signed-in"
	WatchUnfinished ID = "watch.unfinished"
	WatchUpstream   ID = "watch.upstream"
)

func ledgerEntries() []Entry {
	return []Entry{
		{AccountCollisions, Error, "", "Each person is taken for one account, and each account for one person."},
		{AccountExpected, Error, "", "The account for which the app takes the person is the one that was expected."},
		{AccountFound, Pass, "", "The account for which the app takes the person."},
		{AccountKnown, Pass, "", "Everyone who may sign in has an account."},
		{AccountNew, Pass, "", "The app makes an account for the person."},
		{AccountNone, Warning, "", "The person has an account in the app."},
		{AccountShared, Warning, "", "To each account of an app one provider leads."},
		{AccountStrangers, Warning, "", "Everyone who may sign in has an account."},
		{AccountSwapped, Error, "", "Nobody is taken for somebody else."},
		{AccountUnknown, Error, "", "Which account the app takes the person for can be said."},
		{AccountsNoKey, Warning, "", "Each account has a value in the field by which the app finds it."},
		{AccountsTwice, Warning, "", "The field by which the app finds accounts has each value once."},
		{APIAudience, Pass, "RFC 8707 2", "The API knows itself by an address."},
		{ArrivalBound, Pass, "", "Somebody who came in was bound to a person by a verified address."},
		{ArrivalDomain, Error, "", "Whoever comes in has an address for which their provider may speak."},
		{ArrivalExists, Error, "", "Whoever comes in has no address of somebody whom the ledger has already."},
		{ArrivalKept, Error, "", "The person who came in could be kept in the ledger."},
		{ArrivalKnown, Pass, "", "Somebody came in who came before."},
		{ArrivalNew, Pass, "", "Somebody came in who is new, and was kept."},
		{ArrivalNoAddress, Error, "", "Whoever comes in brings an address."},
		{ArrivalUnknown, Error, "", "Unknown people may come in."},
		{ArrivalUnset, Error, "", "It is said what happens to people who come in."},
		{ArrivalUnverified, Error, "", "The provider calls the address of whoever comes in verified."},
		{CallAnswer, Error, "", "The answer of the API can be read."},
		{CallAPI, Error, "", "The call names an API and a permission of the ledger."},
		{CallNone, Note, "", "There was an API to call."},
		{CallRecords, Pass, "", "The API answered."},
		{CallStepUp, Note, "RFC 9470 4", "The sign-in is as strong and as fresh as the API needs it."},
		{CallRefused, Error, "RFC 6750 3.1", "The API takes the token."},
		{Certificate, Pass, "", "A certificate that is in force, with a strong key."},
		{CertificateDigest, Note, "", "The certificate itself is signed with a digest that is still taken."},
		{CertificateEarly, Warning, "", "The certificate is in force already."},
		{CertificateExpired, Warning, "", "The certificate is in force still: many products refuse another."},
		{CertificateExpiring, Warning, "", "The certificate is in force for a month more."},
		{CertificateSuperseded, Note, "", "A certificate that has ended, beside one that is in force."},
		{CharterDrift, Warning, "", "The ledger is as the charter that was enacted last declares it."},
		{CharterUnread, Warning, "", "The charter that was enacted last can be read."},
		{ClaimsDiffer, Warning, "", "What arrived is what the trust releases for the person."},
		{ClaimsForbidden, Warning, "", "A value is one that its format allows."},
		{ClaimsGap, Error, "", "Each person whom the trust admits has a value for the claim."},
		{ClaimsLacking, Warning, "", "There is a rule for a claim that the app wants."},
		{ClaimsMissing, Warning, "", "A claim that the app requires arrived."},
		{ClaimsNone, Note, "", "The trust releases claims."},
		{ClaimsNotKnown, Note, "", "What a foreign provider releases is known, from a rule or from a sign-in " +
			"that was watched."},
		{ClaimsPromised, Pass, "", "What arrived is what the trust releases."},
		{ClaimsRequired, Warning, "SAML Metadata 2.4.4.2", "An attribute that the app requires is released."},
		{ClaimsSameSubject, Error, "SAML Core 8.3",
			"Each person has a subject of their own: the app takes two of the same for one person."},
		{ClaimsSubject, Error, "SAML Core 8.3", "Each person who may sign in has one value for the subject."},
		{ClaimsUnasked, Note, "", "Only what the app asks for is released."},
		{ClaimsUnknownAttribute, Warning, "", "A rule reads an attribute that people in the ledger have."},
		{ClaimsWanted, Note, "SAML Metadata 2.4.4.2", "An attribute that the app would like is released."},
		{ClientMachineRedirect, Error, "RFC 6749 4.4", "A machine client has no redirect URI: nobody signs in there."},
		{ClientNoRedirect, Warning, "RFC 6749 3.1.2.2", "The client has a redirect URI, before anybody can sign in."},
		{ConsentGiven, Pass, "OpenID Connect Core 3.1.2.4", "Somebody agreed to what the client asks for."},
		{ConsentRefused, Error, "RFC 6749 4.1.2.1", "Whoever was asked agreed."},
		{ConsentWaiting, Warning, "", "An administrator agreed to a permission that needs one."},
		{CutoverAccounts, Note, "", "It is known whom the app would know."},
		{CutoverCheck, Pass, "", "The check finds no error."},
		{CutoverContact, Warning, "", "There is somebody to call at the app when nobody can sign in."},
		{CutoverExpectations, Error, "", "All that is expected of the trust holds."},
		{CutoverOwner, Error, "", "The trust has an owner."},
		{CutoverPilot, Error, "", "The pilot is a group with people in it."},
		{CutoverProof, Error, "", "The trust is proven as strongly as this cutover asks."},
		{CutoverWayBack, Error, "", "There is a way back."},
		{DueCertificate, Error, "", "A certificate ends."},
		{DueConsent, Warning, "", "Somebody was stopped and waits for an administrator's consent."},
		{DueKey, Warning, "", "An own key waits to be activated or withdrawn."},
		{DueMetadata, Error, "", "Metadata ends."},
		{DuePeople, Error, "", "A file of people was not read for long."},
		{DuePin, Error, "", "The certificate of a server that is known by it alone ends."},
		{DueReading, Error, "", "What a party publishes cannot be read, or waits to be accepted."},
		{DueSecret, Error, "", "The last secret of a client ends."},
		{ExpectAccount, Error, "", "The account is the one that is expected."},
		{ExpectCall, Error, "", "A call is answered, or refused, as is expected."},
		{ExpectClaim, Error, "", "A claim has the values that are expected, or is not sent where that is expected."},
		{ExpectHeld, Pass, "", "What is expected holds."},
		{ExpectLife, Error, "", "A token lives no longer than is expected."},
		{ExpectNone, Note, "", "Something is expected of a live trust."},
		{ExpectPerson, Error, "", "Whom the expectation is about is in the ledger."},
		{ExpectRehearsal, Error, "", "The rehearsal could be run."},
		{ExpectRule, Error, "", "The sign-in is refused by the rule that is expected."},
		{ExpectSubject, Error, "", "The subject is the one that is expected."},
		{ExpectVerdict, Error, "", "The person gets in, or does not, as is expected."},
		{InspectUnjudged, Note, "", "Nothing to judge the message by was given."},
		{InspectAnswer, Error, "", "Whoever a recorded message was sent to took it."},
		{InspectRefused, Error, "", "No page of an error blames a value that the ledger has."},
		{InspectUnknown, Error, "", "The message is of a kind that is known."},
		{KeyWeak, Error, "", "A key is of RSA with 2048 bits or more, or of ECDSA P-256 or P-384."},
		{PartyContact, Note, "", "There is somebody to write to when something changes."},
		{PeopleAddress, Warning, "", "Each address is that of one person."},
		{PeopleUUID, Error, "RFC 4530 2.1", "Each entryUUID is that of one person."},
		{PartyLeft, Error, "", "A party is in the registry from which it was read."},
		{PartySharedKey, Warning, "", "No two foreign parties sign with one key."},
		{PermissionUnknown, Error, "RFC 6749 3.3",
			"The permission that the client asks for is one that the API publishes."},
		{PrivilegeAsSelf, Warning, "", "A client with users asks on behalf of whoever is there, and not as itself."},
		{PrivilegeEverything, Warning, "", "A client asks for the permissions that it needs, and not for all."},
		{PrivilegeIncluded, Warning, "", "Of two permissions one of which includes the other, one is asked for."},
		{PrivilegeUnconsented, Warning, "", "A permission that is asked for is consented to by somebody, some day."},
		{PrivilegeUnused, Note, "", "A permission that was consented to is used."},
		{PrivilegeWrite, Note, "", "Writing is asked for only where reading is not enough."},
		{ProbeAnswer, Error, "OpenID Connect Core 3.1.2.6 and SAML Core 3.2.2.2",
			"Asked for a sign-in without a page, the provider says that one is needed."},
		{ProbeCall, Error, "RFC 6750 3.1", "The API takes the token."},
		{ProbeCertificate, Warning, "", "The server's certificate is good for weeks more."},
		{ProbeClock, Warning, "", "The server's clock is right."},
		{ProbeDiffers, Warning, "", "What the party publishes is what the ledger has of it."},
		{ProbeDown, Error, "", "The endpoint works."},
		{ProbeElsewhere, Error, "", "The app sends people to the provider of the trust."},
		{ProbeGone, Error, "", "There is something at the endpoint's address."},
		{ProbeKey, Warning, "", "The provider takes a request that is signed with the app's coming key."},
		{ProbeKnown, Pass, "", "The provider answers the app as one that it knows."},
		{ProbeKnows, Pass, "", "The app asks as the ledger has it."},
		{ProbeMoved, Warning, "RFC 9110 15.4", "The endpoint is where the ledger has it."},
		{ProbeNobody, Note, "", "There was a real party to ask."},
		{ProbePublished, Pass, "", "What the ledger writes is published where the other side reads it."},
		{ProbeRedirect, Error, "", "Redirects lead to an answer, and nowhere that is not safe."},
		{ProbeRobot, Error, "", "The server answers a program, and does not ask for a person."},
		{ProbeSame, Pass, "", "What the party publishes is as the ledger has it."},
		{ProbeScope, Warning, "RFC 6749 3.3", "What is granted is what was asked for."},
		{ProbeSecret, Error, "RFC 6749 5.2", "The provider takes the client's secret."},
		{ProbeSlow, Error, "", "The server answers in time."},
		{ProbeStale, Warning, "", "What is published is what the ledger has now."},
		{ProbeStart, Error, "", "The start link leads to a request for a sign-in at the provider."},
		{ProbeThere, Pass, "", "The endpoint answers."},
		{ProbeTLS, Error, "", "The server's certificate is trusted."},
		{ProbeToken, Error, "RFC 6749 5.2", "The token endpoint issues a token."},
		{ProbeUnknown, Error, "", "The provider knows the app."},
		{ProbeUnpublished, Warning, "", "What the ledger writes is published."},
		{ProbeUnreadable, Error, "", "What the party publishes can be read."},
		{ProbeUnsure, Note, "", "Whether the provider knows the app can be told from its answer."},
		{ProofLost, Warning, "", "All that proved a live trust still holds."},
		{ProofNone, Error, "", "Something proves a live trust as it is now."},
		{ProofOld, Warning, "", "What proves a live trust is not too old."},
		{ProviderAdministrators, Warning, "", "Whoever may consent for everyone is a group with people in it."},
		{RegistrationChanged, Warning, "RFC 7591 3.2.1",
			"A foreign provider registered the client as it was asked to, and still has it so."},
		{RegistrationUnread, Warning, "RFC 7592 2.1",
			"A registration at a foreign provider can be read back with the token that was given for it."},
		{SecretExpiring, Warning, "", "The client has a secret that is valid for a month more."},
		{SecretLife, Warning, "", "How long the secret lives."},
		{SecretMany, Warning, "", "There is one secret, and a second only while it is replaced."},
		{SecretUnused, Warning, "", "A secret that is valid is used."},
		{Session, Pass, "", "The person had a session at the provider, and did not sign in anew."},
		{SignoutApp, Note, "SAML Profiles 4.4 and OpenID Connect Back-Channel Logout 2.2",
			"The app is told when somebody signs out at the provider."},
		{SignoutElsewhere, Note, "", "Another app at which the person was signed in is told."},
		{SignoutPage, Pass, "OpenID Connect RP-Initiated Logout 3", "Where people come out after signing out."},
		{SignoutProvider, Note, "SAML Profiles 4.4 and OpenID Connect RP-Initiated Logout 2",
			"The session at the provider ends when somebody signs out at the app."},
		{SubjectDomain, Error, "", "The provider names only people of domains for which it may speak."},
		{SubjectTenant, Error, "", "The provider says of the people whom it sends that they are of a tenant for " +
			"which " +
			"it may speak."},
		{TrustAdmits, Error, "", "Whom the trust admits are groups and people that the ledger has."},
		{TrustAssertionsSigned, Error, "SAML Metadata 2.4.4",
			"The provider signs assertions where the app wants them signed."},
		{TrustBinding, Pass, "SAML Profiles 4.1", "The bindings by which both sides talk."},
		{TrustClient, Error, "RFC 6749 2", "The app has a client side."},
		{TrustClientAuth, Error, "RFC 6749 2.3",
			"The client has a secret or a key by which it shows that it is itself."},
		{TrustClientID, Warning, "RFC 6749 2.2", "The client ID that the provider issued is in the ledger."},
		{TrustClock, Pass, "", "By how much the clocks of both sides may differ."},
		{TrustEncryption, Error, "SAML Core 6",
			"Assertions are encrypted where that is wanted, and the app has a key for it."},
		{TrustIDTokenAlg, Error, "OpenID Connect Registration 2",
			"The provider signs by the algorithm that the client registers."},
		{TrustLogout, Note, "SAML Profiles 4.4", "Both sides take part in single logout, or neither does."},
		{TrustOpenID, Error, "OpenID Connect Discovery 3", "The provider has an OpenID side."},
		{TrustOwner, Note, "", "Somebody can be asked about the trust."},
		{TrustParty, Error, "", "Both parties of the trust are in the ledger."},
		{TrustSpeaksFor, Warning, "", "Where an app takes people of several providers, it is said for which " +
			"domains each speaks."},
		{TrustSpeaksSame, Warning, "", "No two providers speak for one domain at one app."},
		{TrustPKCEOff, Warning, "RFC 9700 2.1.1", "The client uses PKCE."},
		{TrustProtocol, Error, "", "The protocol of the trust is known."},
		{TrustRequestsSigned, Error, "SAML Metadata 2.4.3",
			"The app signs requests where the provider wants them signed, and its certificate is known."},
		{TrustSameEntityID, Error, "SAML Metadata 2.3.2", "The two sides have different entity IDs."},
		{TrustSubjectFormat, Error, "SAML Core 8.3", "The name identifier format is one that the app takes."},
		{Walk, Error, "", "The rehearsal could be walked to its end."},
		{WatchAbandoned, Error, "", "The sign-in that began came to an end."},
		{WatchDown, Error, "", "The real party answers at the address to which the browser is sent."},
		{WatchLedger, Warning, "", "What arrived can be compared with what the ledger promises."},
		{WatchNobody, Error, "", "Somebody signed in while the watch went on."},
		{WatchPerson, Error, "", "It is known who signs in."},
		{WatchSaid, Error, "", "Whoever signed in says that they saw the app's page."},
		{WatchSignedIn, Warning, "", "Somebody signed out while the watch went on."},
		{WatchUnfinished, Error, "", "The recording holds an answer that the app would take."},
		{WatchUpstream, Error, "", "Somebody who signs in upstream comes in at the provider."},
	}
}
