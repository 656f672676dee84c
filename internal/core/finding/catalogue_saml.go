package finding

// The IDs of findings about messages and metadata of SAML.
const (
	LogoutBackChannel        ID = "logout.back-channel"
	LogoutDestination        ID = "logout.destination"
	LogoutInResponseTo       ID = "logout.in-response-to"
	LogoutIssuer             ID = "logout.issuer"
	LogoutLate               ID = "logout.late"
	LogoutMetadataExpired    ID = "logout.metadata.expired"
	LogoutPartial            ID = "logout.partial"
	LogoutReplay             ID = "logout.replay"
	LogoutShape              ID = "logout.shape"
	LogoutSignature          ID = "logout.signature"
	LogoutSignatureAlgorithm ID = "logout.signature.algorithm"
	LogoutSignatureChanged   ID = "logout.signature.changed"
	LogoutSignatureKey       ID = "logout.signature.key"
	LogoutSignatureMissing   ID = "logout.signature.missing"
	LogoutSignatureNokey     ID = "logout.signature.nokey"
	LogoutSignatureShape     ID = "logout.signature.shape"
	LogoutSignatureWeak      ID = "logout.signature.weak"
	LogoutStatus             ID = "logout.status"
	LogoutSubject            ID = "logout.subject"
	LogoutTime               ID = "logout.time"

	MetadataACSIndex           ID = "metadata.acs-index"
	MetadataBroken             ID = "metadata.broken"
	MetadataDoubtful           ID = "metadata.doubtful"
	MetadataEndpoint           ID = "metadata.endpoint"
	MetadataEndpointURL        ID = "metadata.endpoint-url"
	MetadataEndpointUser       ID = "metadata.endpoint-user"
	MetadataEntityID           ID = "metadata.entity-id"
	MetadataExpired            ID = "metadata.expired"
	MetadataExpiring           ID = "metadata.expiring"
	MetadataHTTP               ID = "metadata.http"
	MetadataKey                ID = "metadata.key"
	MetadataKeyUse             ID = "metadata.key-use"
	MetadataLogout             ID = "metadata.logout"
	MetadataNameIDFormat       ID = "metadata.name-id-format"
	MetadataNoSigningKey       ID = "metadata.no-signing-key"
	MetadataRepeated           ID = "metadata.repeated"
	MetadataRole               ID = "metadata.role"
	MetadataSecondRole         ID = "metadata.second-role"
	MetadataShape              ID = "metadata.shape"
	MetadataSignature          ID = "metadata.signature"
	MetadataSignatureAlgorithm ID = "metadata.signature.algorithm"
	MetadataSignatureChanged   ID = "metadata.signature.changed"
	MetadataSignatureCovers    ID = "metadata.signature.covers"
	MetadataSignatureKey       ID = "metadata.signature.key"
	MetadataSignatureMissing   ID = "metadata.signature.missing"
	MetadataSignatureNokey     ID = "metadata.signature.nokey"
	MetadataSignatureShape     ID = "metadata.signature.shape"
	MetadataSignatureWeak      ID = "metadata.signature.weak"
	MetadataValidity           ID = "metadata.validity"

	RequestACS                ID = "request.acs"
	RequestAuthnContext       ID = "request.authn-context"
	RequestBinding            ID = "request.binding"
	RequestDestination        ID = "request.destination"
	RequestFormat             ID = "request.format"
	RequestIssuer             ID = "request.issuer"
	RequestMetadataExpired    ID = "request.metadata.expired"
	RequestQualifier          ID = "request.qualifier"
	RequestReplay             ID = "request.replay"
	RequestShape              ID = "request.shape"
	RequestSignature          ID = "request.signature"
	RequestSignatureAlgorithm ID = "request.signature.algorithm"
	RequestSignatureChanged   ID = "request.signature.changed"
	RequestSignatureKey       ID = "request.signature.key"
	RequestSignatureMissing   ID = "request.signature.missing"
	RequestSignatureNokey     ID = "request.signature.nokey"
	RequestSignatureShape     ID = "request.signature.shape"
	RequestSignatureWeak      ID = "request.signature.weak"
	RequestProviderName       ID = "request.provider-name"
	RequestProviders          ID = "request.providers"
	RequestRequester          ID = "request.requester"
	RequestService            ID = "request.service"
	RequestSubject            ID = "request.subject"
	RequestTime               ID = "request.time"

	SAMLAdmission          ID = "saml.admission"
	SAMLAssertionCount     ID = "saml.assertion-count"
	SAMLAudience           ID = "saml.audience"
	SAMLAuthn              ID = "saml.authn"
	SAMLBinding            ID = "saml.binding"
	SAMLEncoding           ID = "saml.encoding"
	SAMLCondition          ID = "saml.condition"
	SAMLConfirmation       ID = "saml.confirmation"
	SAMLDestination        ID = "saml.destination"
	SAMLEncryption         ID = "saml.encryption"
	SAMLInResponseTo       ID = "saml.in-response-to"
	SAMLIssuer             ID = "saml.issuer"
	SAMLMetadataExpired    ID = "saml.metadata.expired"
	SAMLRecipient          ID = "saml.recipient"
	SAMLRelayState         ID = "saml.relay-state"
	SAMLReplay             ID = "saml.replay"
	SAMLShape              ID = "saml.shape"
	SAMLSignature          ID = "saml.signature"
	SAMLSignatureAlgorithm ID = "saml.signature.algorithm"
	SAMLSignatureAssertion ID = "saml.signature.assertion"
	SAMLSignatureChanged   ID = "saml.signature.changed"
	SAMLSignatureKey       ID = "saml.signature.key"
	SAMLSignatureMissing   ID = "saml.signature.missing"
	SAMLSignatureNokey     ID = "saml.signature.nokey"
	SAMLSignatureShape     ID = "saml.signature.shape"
	SAMLSignatureWeak      ID = "saml.signature.weak"
	SAMLSpace              ID = "saml.space"
	SAMLStatus             ID = "saml.status"
	SAMLStrength           ID = "saml.strength"
	SAMLAuthority          ID = "saml.authority"
	SAMLLocality           ID = "saml.locality"
	SAMLQualifier          ID = "saml.qualifier"
	SAMLScope              ID = "saml.scope"
	SAMLSubject            ID = "saml.subject"
	SAMLTime               ID = "saml.time"
	SAMLTimeEarly          ID = "saml.time.early"
	SAMLTimeLate           ID = "saml.time.late"
	SAMLUnsolicited        ID = "saml.unsolicited"
	SAMLWrapping           ID = "saml.wrapping"
	SAMLWrite              ID = "saml.write"

	XMLDepth       ID = "xml.depth"
	XMLDTD         ID = "xml.dtd"
	XMLDuplicateID ID = "xml.duplicate-id"
	XMLEmpty       ID = "xml.empty"
	XMLEntity      ID = "xml.entity"
	XMLHTML        ID = "xml.html"
	XMLMalformed   ID = "xml.malformed"
	XMLSize        ID = "xml.size"
	XMLTruncated   ID = "xml.truncated"
)

func samlEntries() []Entry {
	return []Entry{
		{LogoutBackChannel, Error, "OpenID Connect Back-Channel Logout 2.8", "The app took the logout token."},
		{LogoutDestination, Error, "SAML Bindings 3.4.5.2 and 3.5.5.2",
			"The logout message was sent to the address at which it arrived."},
		{LogoutInResponseTo, Error, "SAML Core 3.2.2", "The logout response answers the request that was sent."},
		{LogoutIssuer, Error, "SAML Profiles 4.4.4", "The logout message was issued by the other party of the trust."},
		{LogoutLate, Error, "SAML Core 3.7.1", "The logout request is in force still."},
		{LogoutMetadataExpired, Error, "SAML Metadata 2.3.2", "The sender's metadata is in force."},
		{LogoutPartial, Warning, "SAML Core 3.7.3.2", "Everybody who had to be told of the sign-out was told."},
		{LogoutReplay, Error, "SAML Core 3.2.1", "The logout message has an ID that was not seen before."},
		{LogoutShape, Error, "SAML Core 3.7", "The message is a SAML 2.0 LogoutRequest or LogoutResponse."},
		{LogoutSignature, Error, "SAML Profiles 4.4.4", "The logout message is signed by the other party."},
		{LogoutSignatureAlgorithm, Error, "SAML Core 5.4.3", "Signature algorithm and transforms are known and safe."},
		{LogoutSignatureChanged, Error, "SAML Core 5.4", "What was signed is unchanged since."},
		{LogoutSignatureKey, Error, "SAML Core 5.4.1",
			"The signature was made with a key that the ledger knows of the signer."},
		{LogoutSignatureMissing, Error, "SAML Core 5.4", "What has to be signed is signed."},
		{LogoutSignatureNokey, Error, "SAML Core 5.4", "The ledger has a key to verify the signature with."},
		{LogoutSignatureShape, Error, "SAML Core 5.4", "The Signature element is as XML Signature and SAML want it."},
		{LogoutSignatureWeak, Error, "SAML Core 5.4",
			"The signature was made with SHA-256 or better, and with a key that is strong enough."},
		{LogoutStatus, Error, "SAML Core 3.2.2.2", "The other side reports that the session ended."},
		{LogoutSubject, Error, "SAML Core 3.7.1", "The logout request names the person as the assertion did."},
		{LogoutTime, Error, "SAML Core 3.2.1", "The logout message was made within the last minutes."},
		{MetadataACSIndex, Warning, "SAML Metadata 2.2.3", "Each assertion consumer service has an index of its own."},
		{MetadataBroken, Warning, "", "Entities of the document cannot be used; the others can."},
		{MetadataDoubtful, Warning, "",
			"Nothing in an entity speaks against signing and publishing it: weak keys, plain HTTP, foreign " +
				"scopes, markup."},
		{MetadataEndpoint, Error, "SAML Metadata 2.4",
			"There is an endpoint of each kind that is needed, by a binding that browsers use."},
		{MetadataEndpointURL, Error, "SAML Metadata 2.2.2",
			"The Location of an endpoint is an absolute URL without a fragment."},
		{MetadataEndpointUser, Error, "SAML Metadata 2.2.2",
			"The Location of an endpoint has no user name and password in it."},
		{MetadataEntityID, Note, "SAML Core 8.3.6", "The entity ID is an absolute URI of at most 1024 characters."},
		{MetadataExpired, Error, "SAML Metadata 2.3.2", "The metadata is in force: its validUntil is to come."},
		{MetadataExpiring, Warning, "SAML Metadata 2.3.2", "The metadata is in force for two weeks more."},
		{MetadataHTTP, Warning, "SAML Bindings 3.5.5.1", "Endpoints are served over https:."},
		{MetadataKey, Error, "SAML Metadata 2.4.1.1", "A key is published as an X.509 certificate."},
		{MetadataKeyUse, Error, "SAML Metadata 2.4.1.1",
			"The use of a key is signing or encryption, or is left out for both."},
		{MetadataLogout, Note, "SAML Metadata 2.4.2", "Single logout is offered by a binding that browsers use."},
		{MetadataNameIDFormat, Warning, "SAML Core 8.3",
			"A name identifier format is a URI, and one of the standard's own is written as there."},
		{MetadataNoSigningKey, Error, "SAML Metadata 2.4.1.1",
			"There is a signing certificate, without which nothing of the party can be verified."},
		{MetadataRepeated, Error, "SAML Metadata 2.3.2", "Each entity ID stands once in the document."},
		{MetadataRole, Error, "SAML Metadata 2.4", "The document has the role for which it is read."},
		{MetadataSecondRole, Warning, "SAML Metadata 2.3.2",
			"There is one descriptor of the role; of several the first alone is read."},
		{MetadataShape, Error, "SAML Metadata 2.3", "The document is SAML metadata."},
		{MetadataSignature, Error, "SAML Metadata 3", "The metadata is signed by the key that is expected."},
		{MetadataSignatureAlgorithm, Error, "SAML Core 5.4.3",
			"Signature algorithm and transforms are known and safe."},
		{MetadataSignatureChanged, Error, "SAML Core 5.4", "What was signed is unchanged since."},
		{MetadataSignatureCovers, Error, "SAML Core 5.4", "The signature covers the document that carries it."},
		{MetadataSignatureKey, Error, "SAML Core 5.4.1",
			"The signature was made with a key that the ledger knows of the signer."},
		{MetadataSignatureMissing, Error, "SAML Core 5.4", "What has to be signed is signed."},
		{MetadataSignatureNokey, Error, "SAML Core 5.4", "The ledger has a key to verify the signature with."},
		{MetadataSignatureShape, Error, "SAML Core 5.4", "The Signature element is as XML Signature and SAML want it."},
		{MetadataSignatureWeak, Error, "SAML Core 5.4",
			"The signature was made with SHA-256 or better, and with a key that is strong enough."},
		{MetadataValidity, Pass, "SAML Metadata 2.3.2", "How long the metadata is in force."},
		{RequestACS, Error, "SAML Core 3.4.1",
			"The assertion consumer service that the request asks for is one of the app's metadata."},
		{RequestAuthnContext, Error, "SAML Core 3.3.2.2.1",
			"The authentication context that the request asks for can be given."},
		{RequestBinding, Error, "SAML Core 3.4.1",
			"The request asks for its answer by HTTP-POST, or leaves that open."},
		{RequestDestination, Error, "SAML Bindings 3.4.5.2 and 3.5.5.2",
			"The request was sent to the sign-in endpoint at which it arrived."},
		{RequestFormat, Error, "SAML Core 3.4.1.1",
			"The name identifier format that the request asks for is the one that the trust sends."},
		{RequestIssuer, Error, "SAML Core 3.2.1", "The request was issued by the app of the trust, by its entity ID."},
		{RequestMetadataExpired, Error, "SAML Metadata 2.3.2", "The app's metadata is in force."},
		{RequestQualifier, Error, "SAML Core 3.4.1.1",
			"The request asks for a name identifier for this app and no other."},
		{RequestReplay, Error, "SAML Core 3.2.1", "The request has an ID that was not seen before."},
		{RequestShape, Error, "SAML Core 3.4.1", "The message is a SAML 2.0 AuthnRequest with what one needs."},
		{RequestSignature, Error, "SAML Bindings 3.4.4.1",
			"The signature of the request verifies with a key of the app, where requests are signed."},
		{RequestSignatureAlgorithm, Error, "SAML Core 5.4.3", "Signature algorithm and transforms are known and safe."},
		{RequestSignatureChanged, Error, "SAML Core 5.4", "What was signed is unchanged since."},
		{RequestSignatureKey, Error, "SAML Core 5.4.1",
			"The signature was made with a key that the ledger knows of the signer."},
		{RequestSignatureMissing, Error, "SAML Core 5.4", "What has to be signed is signed."},
		{RequestSignatureNokey, Error, "SAML Core 5.4", "The ledger has a key to verify the signature with."},
		{RequestSignatureShape, Error, "SAML Core 5.4", "The Signature element is as XML Signature and SAML want it."},
		{RequestSignatureWeak, Error, "SAML Core 5.4",
			"The signature was made with SHA-256 or better, and with a key that is strong enough."},
		{RequestProviderName, Pass, "SAML Core 3.4.1", "The app says what it calls itself."},
		{RequestProviders, Note, "SAML Core 3.4.1.3", "The app asks for a sign-in here, or where a route leads."},
		{RequestRequester, Pass, "SAML Core 3.4.1.2", "The app says on whose behalf it asks."},
		{RequestService, Error, "SAML Core 3.4.1", "The request is for a service that the app's metadata has."},
		{RequestSubject, Error, "SAML Profiles 4.1.4.1", "A request that names a subject names it by a NameID alone."},
		{RequestTime, Error, "SAML Core 3.2.1", "The request was made within the last minutes, as this clock has it."},
		{SAMLAdmission, Error, "SAML Core 3.2.2.2",
			"The provider says that it does not let this person in at this app."},
		{SAMLAssertionCount, Error, "SAML Profiles 4.1.4.2",
			"A response carries exactly one assertion: of several it is unclear which was meant."},
		{SAMLAudience, Error, "SAML Core 2.5.1.4",
			"The assertion is for this app: its entity ID is among the audiences."},
		{SAMLAuthn, Error, "SAML Profiles 4.1.4.2", "The assertion says when and how the person signed in."},
		{SAMLBinding, Error, "SAML Profiles 4.1.2", "The response came by HTTP-POST."},
		{SAMLEncoding, Error, "SAML Bindings 3.4.4 and 3.5.4",
			"The message came in the parameter and the encoding that its binding gives it."},
		{SAMLCondition, Error, "SAML Core 2.5.1.1",
			"Each condition of the assertion is understood and holds; an unknown one refuses it."},
		{SAMLConfirmation, Error, "SAML Profiles 4.1.4.2",
			"The assertion is confirmed for whoever bears it, with data to check."},
		{SAMLDestination, Error, "SAML Core 3.2.2",
			"The response was sent to the assertion consumer service at which it arrived."},
		{SAMLEncryption, Error, "SAML Core 2.3.4",
			"The assertion is encrypted to the app's key where the trust says so, and can be decrypted."},
		{SAMLInResponseTo, Error, "SAML Core 3.2.2",
			"The response answers the request that this app sent from this browser."},
		{SAMLIssuer, Error, "SAML Core 3.2.1", "The message was issued by the party of the trust, by its entity ID."},
		{SAMLMetadataExpired, Error, "SAML Metadata 2.3.2",
			"The sender's metadata is in force: what has expired carries no trust."},
		{SAMLRecipient, Error, "SAML Profiles 4.1.4.2",
			"The assertion was made for the assertion consumer service at which it arrived."},
		{SAMLRelayState, Warning, "SAML Bindings 3.4.3 and 3.5.3", "RelayState is of 80 bytes at most."},
		{SAMLReplay, Error, "SAML Profiles 4.1.4.5", "The assertion is used for the first time."},
		{SAMLShape, Error, "SAML Profiles 4.1.4.2", "The message is a SAML 2.0 Response with what one needs."},
		{SAMLSignature, Error, "SAML Core 5", "The signature verifies with a key of the provider."},
		{SAMLSignatureAlgorithm, Error, "SAML Core 5.4.3", "Signature algorithm and transforms are known and safe."},
		{SAMLSignatureAssertion, Error, "SAML Metadata 2.4.4",
			"The assertion itself is signed where the app's metadata wants it."},
		{SAMLSignatureChanged, Error, "SAML Core 5.4", "What was signed is unchanged since."},
		{SAMLSignatureKey, Error, "SAML Core 5.4.1",
			"The signature was made with a key that the ledger knows of the signer."},
		{SAMLSignatureMissing, Error, "SAML Core 5.4", "What has to be signed is signed."},
		{SAMLSignatureNokey, Error, "SAML Core 5.4", "The ledger has a key to verify the signature with."},
		{SAMLSignatureShape, Error, "SAML Core 5.4", "The Signature element is as XML Signature and SAML want it."},
		{SAMLSignatureWeak, Error, "SAML Core 5.4",
			"The signature was made with SHA-256 or better, and with a key that is strong enough."},
		{SAMLSpace, Note, "", "A value begins or ends with white space, which is kept and compared."},
		{SAMLStatus, Error, "SAML Core 3.2.2.2", "The provider reports success."},
		{SAMLStrength, Error, "SAML Core 3.3.2.2.1", "The person signed in as strongly as the trust asks."},
		{SAMLAuthority, Pass, "SAML Core 2.7.2.2", "The provider says who signed the person in."},
		{SAMLLocality, Pass, "SAML Core 2.7.2.1", "The provider says where the person signed in."},
		{SAMLQualifier, Note, "SAML Core 8.3.7", "The name identifier is one that the provider made for this app."},
		{SAMLScope, Error, "", "Scoped values are of the scopes that the provider's metadata has."},
		{SAMLSubject, Error, "SAML Core 2.4.1", "The assertion names one subject by a name identifier of text."},
		{SAMLTime, Error, "SAML Core 2.5.1", "The times of the assertion are in UTC and in force."},
		{SAMLTimeEarly, Error, "SAML Core 2.5.1", "The assertion is in force already, as this clock has it."},
		{SAMLTimeLate, Error, "SAML Core 2.5.1", "The assertion is in force still, as this clock has it."},
		{SAMLUnsolicited, Error, "SAML Profiles 4.1.5",
			"A response that answers no request is taken only where the trust says so."},
		{SAMLWrapping, Error, "SAML Core 5.4",
			"The signature covers the very element that is read. Otherwise the message may be forged."},
		{SAMLWrite, Error, "", "The stand-in could write a response."},
		{XMLDepth, Error, "", "Elements are nested no deeper than SAML needs."},
		{XMLDTD, Error, "", "There is no document type: with one, files and memory are attacked."},
		{XMLDuplicateID, Error, "SAML Core 5.4.2",
			"Each ID stands once; one that is there twice is how signed messages are forged."},
		{XMLEmpty, Error, "", "There is a document at all."},
		{XMLEntity, Error, "", "There is no entity beyond the five predefined ones."},
		{XMLHTML, Error, "", "The answer is a document, and not a web page."},
		{XMLMalformed, Error, "", "The document is well-formed XML."},
		{XMLSize, Error, "", "The document is of ordinary size."},
		{XMLTruncated, Error, "", "The document is whole."},
	}
}
