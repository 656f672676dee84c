package finding

// The IDs of findings about OAuth and OpenID Connect.
const (
	DiscoveryAlgorithm ID = "discovery.algorithm"
	DiscoveryCode      ID = "discovery.code"
	DiscoveryEndpoint  ID = "discovery.endpoint"
	DiscoveryIss       ID = "discovery.iss"
	DiscoveryIssuer    ID = "discovery.issuer"
	DiscoveryPKCE      ID = "discovery.pkce"
	DiscoveryRead      ID = "discovery.read"

	DPoPAddress   ID = "dpop.address"
	DPoPKey       ID = "dpop.key"
	DPoPMethod    ID = "dpop.method"
	DPoPNonce     ID = "dpop.nonce"
	DPoPProof     ID = "dpop.proof"
	DPoPReused    ID = "dpop.reused"
	DPoPShape     ID = "dpop.shape"
	DPoPSignature ID = "dpop.signature"
	DPoPTime      ID = "dpop.time"
	DPoPToken     ID = "dpop.token"

	ProfileAuthentication ID = "profile.authentication"
	ProfileBound          ID = "profile.bound"
	ProfileClient         ID = "profile.client"
	ProfileIss            ID = "profile.iss"
	ProfilePKCE           ID = "profile.pkce"
	ProfilePushed         ID = "profile.pushed"
	ProfileRedirect       ID = "profile.redirect"
	ProfileSignature      ID = "profile.signature"

	IntrospectionActive   ID = "introspection.active"
	IntrospectionClientID ID = "introspection.client_id"
	IntrospectionExp      ID = "introspection.exp"
	IntrospectionIss      ID = "introspection.iss"
	IntrospectionRead     ID = "introspection.read"
	IntrospectionScope    ID = "introspection.scope"
	IntrospectionSilent   ID = "introspection.silent"
	IntrospectionSub      ID = "introspection.sub"

	JWKBroken  ID = "jwk.broken"
	JWKPrivate ID = "jwk.private"

	JWKSBroken     ID = "jwks.broken"
	JWKSEncryption ID = "jwks.encryption"
	JWKSKey        ID = "jwks.key"
	JWKSNone       ID = "jwks.none"
	JWKSPrivate    ID = "jwks.private"
	JWKSSameKeyID  ID = "jwks.same-kid"
	JWKSSymmetric  ID = "jwks.symmetric"
	JWKSWeak       ID = "jwks.weak"

	JWTAlgNone ID = "jwt.alg-none"
	JWTExpired ID = "jwt.expired"

	OAuthAccessDenied                    ID = "oauth.access_denied"
	OAuthCancelled                       ID = "oauth.cancelled"
	OAuthAccountSelectionRequired        ID = "oauth.account_selection_required"
	OAuthAuthorizationPending            ID = "oauth.authorization_pending"
	OAuthBrowser                         ID = "oauth.browser"
	OAuthClientID                        ID = "oauth.client-id"
	OAuthCode                            ID = "oauth.code"
	OAuthConsentRequired                 ID = "oauth.consent_required"
	OAuthDevice                          ID = "oauth.device"
	OAuthEndpoint                        ID = "oauth.endpoint"
	OAuthExpiredToken                    ID = "oauth.expired_token"
	OAuthInsufficientScope               ID = "oauth.insufficient_scope"
	OAuthInteractionRequired             ID = "oauth.interaction_required"
	OAuthInvalidDetails                  ID = "oauth.invalid_authorization_details"
	OAuthInvalidDPoPProof                ID = "oauth.invalid_dpop_proof"
	OAuthInsufficientSignIn              ID = "oauth.insufficient_user_authentication"
	OAuthInvalidClient                   ID = "oauth.invalid_client"
	OAuthInvalidGrant                    ID = "oauth.invalid_grant"
	OAuthInvalidRequest                  ID = "oauth.invalid_request"
	OAuthInvalidRequestObject            ID = "oauth.invalid_request_object"
	OAuthInvalidRequestURI               ID = "oauth.invalid_request_uri"
	OAuthInvalidScope                    ID = "oauth.invalid_scope"
	OAuthInvalidTarget                   ID = "oauth.invalid_target"
	OAuthInvalidToken                    ID = "oauth.invalid_token"
	OAuthIss                             ID = "oauth.iss"
	OAuthLess                            ID = "oauth.less"
	OAuthLoginRequired                   ID = "oauth.login_required"
	OAuthNoOpenID                        ID = "oauth.no-openid"
	OAuthObject                          ID = "oauth.request-object"
	OAuthPKCEOff                         ID = "oauth.pkce-off"
	OAuthRedirect                        ID = "oauth.redirect"
	OAuthRefresh                         ID = "oauth.refresh"
	OAuthRegistrationNotSupported        ID = "oauth.registration_not_supported"
	OAuthRequest                         ID = "oauth.request"
	OAuthRequestNotSupported             ID = "oauth.request_not_supported"
	OAuthRequestURINotSupported          ID = "oauth.request_uri_not_supported"
	OAuthServerError                     ID = "oauth.server_error"
	OAuthSlowDown                        ID = "oauth.slow_down"
	OAuthState                           ID = "oauth.state"
	OAuthTemporarilyUnavailable          ID = "oauth.temporarily_unavailable"
	OAuthToken                           ID = "oauth.token"
	OAuthTokenRequest                    ID = "oauth.token-request"
	OAuthTokens                          ID = "oauth.tokens"
	OAuthUnauthorizedClient              ID = "oauth.unauthorized_client"
	OAuthUnmetAuthenticationRequirements ID = "oauth.unmet_authentication_requirements"
	OAuthUnsupportedGrantType            ID = "oauth.unsupported_grant_type"
	OAuthUnsupportedResponseType         ID = "oauth.unsupported_response_type"
	OAuthUnsupportedTokenType            ID = "oauth.unsupported_token_type"
	OAuthUseDPoPNonce                    ID = "oauth.use_dpop_nonce"

	PolicyAccessDenied                    ID = "policy.access_denied"
	PolicyAdmitted                        ID = "policy.admitted"
	PolicyInvalidRequest                  ID = "policy.invalid_request"
	PolicyLoginRequired                   ID = "policy.login_required"
	PolicyRefused                         ID = "policy.refused"
	PolicyUnmetAuthenticationRequirements ID = "policy.unmet_authentication_requirements"

	RedirectCharacter     ID = "redirect.character"
	RedirectDotSegment    ID = "redirect.dot-segment"
	RedirectFragment      ID = "redirect.fragment"
	RedirectLoopback      ID = "redirect.loopback"
	RedirectLoopbackName  ID = "redirect.loopback-name"
	RedirectPrivateScheme ID = "redirect.private-scheme"
	RedirectQuery         ID = "redirect.query"
	RedirectScheme        ID = "redirect.scheme"
	RedirectTwin          ID = "redirect.twin"
	RedirectUserInfo      ID = "redirect.user-info"
	RedirectWildcard      ID = "redirect.wildcard"

	TokenACR           ID = "token.acr"
	TokenAlg           ID = "token.alg"
	TokenAlgHMAC       ID = "token.alg-hmac"
	TokenAlgNone       ID = "token.alg-none"
	TokenAtHash        ID = "token.at-hash"
	TokenAudience      ID = "token.audience"
	TokenAuthTime      ID = "token.auth-time"
	TokenAZP           ID = "token.azp"
	TokenBound         ID = "token.bound"
	TokenClient        ID = "token.client"
	TokenCrit          ID = "token.crit"
	TokenEarly         ID = "token.early"
	TokenEvents        ID = "token.events"
	TokenExpired       ID = "token.expired"
	TokenExpiry        ID = "token.expiry"
	TokenIssued        ID = "token.issued"
	TokenIssuer        ID = "token.issuer"
	TokenJTI           ID = "token.jti"
	TokenKeyInHeader   ID = "token.key-in-header"
	TokenKeyID         ID = "token.kid"
	TokenNonce         ID = "token.nonce"
	TokenRegisteredAlg ID = "token.registered-alg"
	TokenReplay        ID = "token.replay"
	TokenRevoked       ID = "token.revoked"
	TokenScope         ID = "token.scope"
	TokenShape         ID = "token.shape"
	TokenSignature     ID = "token.signature"
	TokenSubject       ID = "token.subject"
	TokenType          ID = "token.type"

	UserinfoStatus  ID = "userinfo.status"
	UserinfoSubject ID = "userinfo.subject"
)

func openidEntries() []Entry {
	return []Entry{
		{DiscoveryAlgorithm, Error, "RFC 8725 3.1",
			"The provider signs ID tokens by an algorithm that is known and safe."},
		{DiscoveryCode, Error, "RFC 9700 2.1.1", "The provider offers the authorization code flow."},
		{DiscoveryEndpoint, Error, "OpenID Connect Discovery 3",
			"The document has the endpoints that are needed, at safe addresses."},
		{DiscoveryIss, Note, "RFC 9207 3", "The provider promises to name itself in its answers."},
		{DiscoveryIssuer, Error, "OpenID Connect Discovery 4.3",
			"The document is of the issuer that was asked, compared exactly."},
		{DiscoveryPKCE, Warning, "RFC 9700 2.1.1", "The provider offers PKCE with S256."},
		{DiscoveryRead, Error, "OpenID Connect Discovery 4", "The document and the keys can be read."},
		{DPoPAddress, Error, "RFC 9449 4.3 (9)", "The proof is for the address at which it came."},
		{DPoPKey, Error, "RFC 9449 6.1", "The proof is made by the key to which the token or the code is bound."},
		{DPoPMethod, Error, "RFC 9449 4.3 (8)", "The proof is for the method of the request."},
		{DPoPNonce, Note, "RFC 9449 8", "The proof has a nonce that whoever judges it gave out."},
		{DPoPProof, Pass, "RFC 9449 4.3", "The proof shows that whoever sends it has its key."},
		{DPoPReused, Error, "RFC 9449 11.1", "The proof is used for the first time."},
		{DPoPShape, Error, "RFC 9449 4.2", "The proof is a signed JWT of the right kind, with its public key."},
		{DPoPSignature, Error, "RFC 9449 4.3 (6)", "The key in the proof verifies it."},
		{DPoPTime, Error, "RFC 9449 4.3 (11)", "The proof was made just now."},
		{DPoPToken, Error, "RFC 9449 4.3 (12)", "The proof is for the access token that came with it."},
		{IntrospectionActive, Pass, "RFC 7662 2.2", "The provider says that the token is active."},
		{IntrospectionClientID, Error, "RFC 7662 2.2", "The token that the provider tells of is one of this client."},
		{IntrospectionExp, Warning, "RFC 7662 2.2", "A token that is called active has not ended."},
		{IntrospectionIss, Warning, "RFC 7662 2.2", "The token that the provider tells of is one of this issuer."},
		{IntrospectionRead, Warning, "RFC 7662 2.2", "The answer of the introspection endpoint can be read."},
		{IntrospectionScope, Warning, "RFC 7662 2.2", "The provider tells APIs of each permission that it granted."},
		{IntrospectionSilent, Note, "RFC 7662 2.2", "The provider tells this client nothing of the token."},
		{IntrospectionSub, Warning, "RFC 7662 2.2", "The token that the provider tells of is one of this subject."},
		{JWKBroken, Warning, "RFC 7517 4", "The key can be read."},
		{JWKPrivate, Warning, "RFC 7517 4", "The key is a public one."},
		{JWKSBroken, Warning, "RFC 7518", "A key of the set can be read; otherwise it is left out."},
		{JWKSEncryption, Note, "RFC 7517 4.2", "A key of the set is for signatures; one for encryption is left out."},
		{JWKSKey, Pass, "RFC 7517 4", "A key that verifies signatures."},
		{JWKSNone, Error, "RFC 7517 5", "There is a set with a key that can verify a signature."},
		{JWKSPrivate, Error, "RFC 7517 4", "Public keys alone are published."},
		{JWKSSameKeyID, Warning, "RFC 7517 4.5", "Each key has an ID of its own."},
		{JWKSSymmetric, Error, "RFC 7517 4", "No secret key is published."},
		{JWKSWeak, Error, "RFC 7518", "A key of the set is strong enough."},
		{JWTAlgNone, Error, "RFC 8725 3.1", "The token is signed."},
		{JWTExpired, Warning, "RFC 7519 4.1.4", "The token is in force."},
		{OAuthAccessDenied, Error, "RFC 6749 4.1.2.1", "The person, or the provider, refused."},
		{OAuthCancelled, Error, "RFC 6749 4.1.2.1", "Whoever signs in agrees to what is asked for."},
		{OAuthAccountSelectionRequired, Error, "OpenID Connect Core 3.1.2.6",
			"Somebody has to choose an account, and no page may be shown."},
		{OAuthAuthorizationPending, Error, "RFC 8628 3.5", "Nobody has decided on the device yet."},
		{OAuthBrowser, Error, "RFC 6749 10.12", "The answer came in the browser from which the request left."},
		{OAuthClientID, Error, "RFC 6749 4.1.1", "The client ID is that of a client of this provider."},
		{OAuthCode, Error, "RFC 6749 4.1.2", "The answer brings one code."},
		{OAuthConsentRequired, Error, "OpenID Connect Core 3.1.2.6",
			"Somebody has to consent, and no page may be shown."},
		{OAuthDevice, Pass, "RFC 8628 3.1", "A device may begin a sign-in."},
		{OAuthEndpoint, Warning, "RFC 8414 2",
			"The request went to the authorization endpoint that the provider publishes."},
		{OAuthExpiredToken, Error, "RFC 8628 3.5", "The time for deciding on the device is over."},
		{OAuthInsufficientScope, Error, "RFC 6750 3.1", "The token does not carry the permission that the call needs."},
		{OAuthInteractionRequired, Error, "OpenID Connect Core 3.1.2.6", "A page has to be shown, and none may be."},
		{OAuthInvalidDetails, Error, "RFC 9396 5", "What is asked for in detail is of a type that is known, and " +
			"within what the client may ask for."},
		{OAuthInvalidDPoPProof, Error, "RFC 9449 5", "The request has a DPoP proof that holds, where one is needed."},
		{OAuthInsufficientSignIn, Error, "RFC 9470 3", "The sign-in is as strong and as fresh as the API needs it."},
		{OAuthInvalidClient, Error, "RFC 6749 5.2", "The client did not show that it is itself, or is not known."},
		{OAuthInvalidGrant, Error, "RFC 6749 5.2",
			"The code or the refresh token does not hold: used, ended, revoked, or of another client."},
		{OAuthInvalidRequest, Error, "RFC 6749 4.1.2.1 and 5.2",
			"The request lacks a parameter, repeats one, or has one that cannot be read."},
		{OAuthInvalidRequestObject, Error, "OpenID Connect Core 3.1.2.6", "The request object cannot be read."},
		{OAuthInvalidRequestURI, Error, "OpenID Connect Core 3.1.2.6",
			"The pushed request is not there, or cannot be read."},
		{OAuthInvalidScope, Error, "RFC 6749 4.1.2.1 and 5.2",
			"A scope is unknown, or more than the client may ask for."},
		{OAuthInvalidTarget, Error, "RFC 8707 2", "The API that the token shall be for is not known."},
		{OAuthInvalidToken, Error, "RFC 6750 3.1", "The API does not take the token."},
		{OAuthIss, Error, "RFC 9207 2.4", "The answer names the issuer that was asked."},
		{OAuthLess, Warning, "RFC 6749 3.3",
			"A permission was asked for and not granted; the sign-in goes on without it."},
		{OAuthLoginRequired, Error, "OpenID Connect Core 3.1.2.6",
			"Somebody has to sign in, and no page may be shown."},
		{OAuthNoOpenID, Pass, "OpenID Connect Core 3.1.2.1",
			"Without the scope openid the app does not learn who signed in."},
		{OAuthObject, Pass, "RFC 9101 6", "The request is an object that the client signed."},
		{OAuthPKCEOff, Warning, "RFC 9700 2.1.1", "The request has a code challenge; this client may do without."},
		{OAuthRedirect, Error, "RFC 9700 2.1", "The redirect URI is one that is registered, compared exactly."},
		{OAuthRefresh, Pass, "RFC 6749 6", "A refresh token was used, or there is none to use."},
		{OAuthRegistrationNotSupported, Error, "OpenID Connect Core 3.1.2.6",
			"The provider takes no registration within a request."},
		{OAuthRequest, Pass, "RFC 6749 4.1.1", "The authorization request is one that the trust allows."},
		{OAuthRequestNotSupported, Error, "OpenID Connect Core 3.1.2.6", "The provider takes no request objects."},
		{OAuthRequestURINotSupported, Error, "OpenID Connect Core 3.1.2.6",
			"The provider takes no references to requests."},
		{OAuthServerError, Error, "RFC 6749 4.1.2.1", "Something went wrong inside the provider."},
		{OAuthSlowDown, Error, "RFC 8628 3.5", "The device asks too often."},
		{OAuthState, Error, "RFC 6749 10.12", "The answer carries the state that this browser was sent away with."},
		{OAuthTemporarilyUnavailable, Error, "RFC 6749 4.1.2.1", "The provider is too busy, or down for a while."},
		{OAuthToken, Pass, "RFC 6749 5.1", "The provider answered a token request with tokens."},
		{OAuthTokenRequest, Pass, "RFC 6749 4.1.3", "The token request is one that the trust allows."},
		{OAuthTokens, Pass, "RFC 6749 5.1", "The client received tokens."},
		{OAuthUnauthorizedClient, Error, "RFC 6749 4.1.2.1 and 5.2", "The client may not use this way of asking."},
		{OAuthUnmetAuthenticationRequirements, Error, "OpenID Connect Unmet Authentication Requirements 2",
			"The person cannot sign in as strongly as was asked."},
		{OAuthUnsupportedGrantType, Error, "RFC 6749 5.2", "The provider does not know this way of asking for tokens."},
		{OAuthUnsupportedResponseType, Error, "RFC 6749 4.1.2.1", "The provider does not answer in this way."},
		{OAuthUnsupportedTokenType, Error, "RFC 7009 2.2.1", "The provider does not revoke tokens of this type."},
		{OAuthUseDPoPNonce, Error, "RFC 9449 8", "The provider wants a proof with a nonce of its own."},
		{PolicyAccessDenied, Error, "RFC 6749 4.1.2.1", "The policies of the trust refuse the person."},
		{PolicyAdmitted, Pass, "", "The policies of the trust let the person sign in."},
		{PolicyInvalidRequest, Error, "RFC 6749 4.1.2.1", "The request asks for somebody who did not sign in."},
		{PolicyLoginRequired, Error, "OpenID Connect Core 3.1.2.6",
			"The policies of the trust ask for another sign-in."},
		{PolicyRefused, Error, "", "The policies of the trust refuse the sign-in."},
		{PolicyUnmetAuthenticationRequirements, Error, "OpenID Connect Unmet Authentication Requirements 2",
			"The policies of the trust ask for a stronger sign-in."},
		{ProfileAuthentication, Error, "FAPI 2.0 Security Profile 5.3.2.1",
			"The client authenticates with a key or a certificate."},
		{ProfileBound, Error, "FAPI 2.0 Security Profile 5.3.2.1", "Tokens can be bound to a key of the client."},
		{ProfileClient, Error, "FAPI 2.0 Security Profile 5.3.2.1", "The client can keep a key."},
		{ProfileIss, Error, "FAPI 2.0 Security Profile 5.3.2.2", "The provider names itself in its answers."},
		{ProfilePKCE, Error, "FAPI 2.0 Security Profile 5.3.2.2", "Every code is protected by PKCE."},
		{ProfilePushed, Error, "FAPI 2.0 Security Profile 5.3.2.2", "Requests can be pushed."},
		{ProfileRedirect, Error, "FAPI 2.0 Security Profile 5.3.2.2", "Answers come back over TLS."},
		{ProfileSignature, Error, "FAPI 2.0 Security Profile 5.4.1",
			"What is signed is signed by an algorithm of the profile."},
		{RedirectCharacter, Error, "RFC 3986 2", "A redirect URI is of printable ASCII."},
		{RedirectDotSegment, Error, "RFC 3986 6.2.2.3", "A redirect URI has no dot segments in its path."},
		{RedirectFragment, Error, "RFC 6749 3.1.2", "A redirect URI has no fragment."},
		{RedirectLoopback, Warning, "RFC 8252 7.3", "Loopback addresses are for native clients, and for development."},
		{RedirectLoopbackName, Warning, "RFC 8252 8.3",
			"A loopback address is written as an address, and not as a name."},
		{RedirectPrivateScheme, Error, "RFC 8252 7.1", "A private scheme is made of a domain name that its owner has."},
		{RedirectQuery, Warning, "RFC 6749 3.1.2", "A redirect URI has no query, which would be compared as well."},
		{RedirectScheme, Error, "RFC 6749 3.1.2", "A redirect URI is absolute, and leads where codes arrive safely."},
		{RedirectTwin, Warning, "RFC 3986 6.2.1", "No two redirect URIs differ by so little that one was meant."},
		{RedirectUserInfo, Error, "RFC 9700 4.1", "A redirect URI has no user name or password in it."},
		{RedirectWildcard, Error, "RFC 9700 2.1", "A redirect URI is one exact URI."},
		{TokenACR, Error, "OpenID Connect Core 3.1.3.7 (12)", "The person signed in as strongly as the trust asks."},
		{TokenAlg, Error, "RFC 8725 3.1", "The token is signed by an algorithm that is known and safe."},
		{TokenAlgHMAC, Error, "RFC 8725 3.1",
			"The token is signed with a private key, and not with something that both sides know."},
		{TokenAlgNone, Error, "RFC 8725 3.1", "The token is signed."},
		{TokenAtHash, Error, "OpenID Connect Core 3.1.3.8", "The ID token and the access token were issued together."},
		{TokenAudience, Error, "OpenID Connect Core 3.1.3.7 (3) and RFC 9068 4", "The token is for whoever judges it."},
		{TokenAuthTime, Error, "OpenID Connect Core 3.1.3.7 (13)", "The sign-in is as fresh as was asked."},
		{TokenAZP, Error, "OpenID Connect Core 3.1.3.7 (4, 5)", "The token was issued to this client."},
		{TokenBound, Error, "RFC 9449 7.1 and RFC 8705 3",
			"Whoever sends the access token has the key to which it is bound."},
		{TokenClient, Error, "RFC 9068 2.2", "The access token was issued to this client."},
		{TokenCrit, Error, "RFC 7515 4.1.11", "The token needs no extension that is unknown."},
		{TokenEarly, Error, "RFC 7519 4.1.5", "The token is in force already, as this clock has it."},
		{TokenEvents, Error, "OpenID Connect Back-Channel Logout 2.4", "The token says that it is a logout."},
		{TokenExpired, Error, "RFC 7519 4.1.4", "The token is in force still, as this clock has it."},
		{TokenExpiry, Error, "RFC 7519 4.1.4", "The token says when it ends."},
		{TokenIssued, Error, "OpenID Connect Core 2", "The token says when it was issued."},
		{TokenIssuer, Error, "OpenID Connect Core 3.1.3.7 (2)",
			"The token was issued by the provider of the trust, compared exactly."},
		{TokenJTI, Error, "OpenID Connect Back-Channel Logout 2.4", "The logout token has an ID."},
		{TokenKeyInHeader, Warning, "RFC 8725 3.10", "The token brings no key: the key comes from the ledger."},
		{TokenKeyID, Error, "RFC 7515 4.1.4", "The key that the token names is one that the issuer publishes."},
		{TokenNonce, Error, "OpenID Connect Core 3.1.3.7 (11)", "The token answers the request that this client sent."},
		{TokenRegisteredAlg, Error, "OpenID Connect Core 3.1.3.7 (7)",
			"The ID token is signed by the algorithm that the client registered."},
		{TokenReplay, Error, "OpenID Connect Back-Channel Logout 2.6", "The token is used for the first time."},
		{TokenRevoked, Error, "RFC 7009 2", "The token was not revoked."},
		{TokenScope, Error, "RFC 6750 3.1", "The token carries the permission that is needed."},
		{TokenShape, Error, "RFC 7519 7.2", "The token is three parts of base64url JSON."},
		{TokenSignature, Error, "RFC 7515 5.2", "The signature verifies with a key of the issuer."},
		{TokenSubject, Error, "OpenID Connect Core 2", "The token names its subject."},
		{TokenType, Error, "RFC 9068 4", "The token is of the kind that is needed here."},
		{UserinfoStatus, Error, "OpenID Connect Core 5.3", "The userinfo endpoint answers with claims."},
		{UserinfoSubject, Error, "OpenID Connect Core 5.3.2", "Userinfo is about the subject of the ID token."},
	}
}
