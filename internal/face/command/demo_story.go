package command

import "strings"

// demoStep is one command of the story.
type demoStep struct {
	say  string // the idea of the chapter that begins here; "" goes on with the last
	args []string
	exit int
	show part
}

// part says what is shown of a command in the short story: so many lines from the first line that holds a text on.
type part struct {
	from  string
	lines int
}

// The parts that are no part: all of it, nothing but the command, not even the command.
var (
	allOf  = part{lines: 1000}
	silent = part{}
	unsaid = part{lines: -1}
)

// of cuts the part out of what a command said.
func (p part) of(text string) string {
	if p.lines <= 0 {
		return ""
	}
	lines := strings.SplitAfter(strings.TrimRight(text, "\n")+"\n", "\n")
	for i, l := range lines {
		if strings.Contains(l, p.from) {
			out := lines[i:min(len(lines), i+p.lines)]
			return strings.TrimRight(strings.Join(out, ""), "\n") + "\n"
		}
	}
	return text // it says something else than it used to: better all of it than nothing
}

// demoStory is the work in the order in which people do it, one idea a chapter.
func demoStory() []demoStep {
	cmd := func(parts ...string) []string { return strings.Split(strings.Join(parts, "|"), "|") }
	return []demoStep{
		{"Open a ledger, load people, and get to know the parties: the observatory's own provider, two apps and a " +
			"university, each from the metadata that its owner sent.", cmd("init|--org|Kestrel Ridge Observatory"), 0,
			silent},
		{"", cmd("people|load|observatory.ldif"), 0, silent},
		{"", cmd("provider|add|ridge|--own|--at|https://login.kestrelridge.example|--title|Kestrel Ridge Directory",
			"--administrators|group:directors"), 0, silent},
		{"", cmd("app|add|nightlog|--metadata|nightlog-metadata.xml|--signed-by|nightlog.pem"), 0, silent},
		{"", cmd("app|add|plate-archive|--metadata|plate-archive-metadata.xml"), 0, unsaid},
		{"", cmd("provider|add|southmere|--metadata|southmere-metadata.xml|--signed-by|southmere.pem"), 0, unsaid},
		{"Make the trust. Both sides are compared before anyone signs in: the log needs a mail address " +
			"that nobody has " +
			"promised it yet.", cmd("federate|nightlog|--with|ridge|--admits|group:observers"), 0, part{"ERROR", 5}},
		{"Map the claims, and see what would be sent for Mira.",
			cmd("claims|set|nightlog@ridge|mail=person.mail|displayName=person.givenName + \" \" + person.sn"), 0,
			silent},
		{"", cmd("claims|preview|nightlog@ridge|--as|mira"), 0, part{"", 6}},
		{"Give the owner of the log what it needs of the provider: metadata, certificate, and a sheet of labelled " +
			"values.",
			cmd("handoff|nightlog@ridge|--for|app|--out|handoff-nightlog"), 0, silent},
		{"", cmd("handoff|nightlog@ridge|--for|app|--delivered|tobias.renn@kestrelridge.example"), 0, silent},
		{"", cmd("federate|plate-archive|--with|ridge"), 0, unsaid},
		{"", cmd("claims|set|plate-archive@ridge|mail=person.mail|displayName=person.displayName",
			"eduPersonPrincipalName=person.eduPersonPrincipalName|eduPersonAffiliation=person.eduPersonAffiliation"), 0,
			unsaid},
		{"", cmd("handoff|plate-archive@ridge|--for|app|--out|handoff-plates"), 0, unsaid},
		{"Rehearse: the real protocol, end to end. Two apps on one provider; the second asks for no sign-in, and " +
			"signing " +
			"out there signs out everywhere.", cmd("rehearse|nightlog@ridge|plate-archive@ridge|--as|mira"), 0, allOf},
		{"Whom would the log know? Its owner sent an export of its accounts.",
			cmd("app|change|nightlog|--reads|username=mail|--reads|full_name=displayName|--account-key|username|" +
				"--strangers|refused"),
			0, unsaid},
		{"", cmd("accounts|load|nightlog|nightlog-accounts.csv"), 0, unsaid},
		{"", cmd("accounts|match|nightlog@ridge"), 3, part{"  strangers", 2}},
		{"", cmd("claims|gaps|plate-archive@ridge"), 3, unsaid},
		{"", cmd("claims|suggest|plate-archive@ridge"), 0, unsaid},
		{"Now one that fails, on purpose. Visitors come from Southmere, which sends `email`; the log " +
			"reads `mail`. And suppose the log was set up with a URL that lacks its last slash.",
			cmd("federate|nightlog|--with|southmere|--admits|group:visitors"), 0, silent},
		{"", cmd("claims|set|nightlog@southmere|email=person.mail|displayName=person.displayName"), 3, silent},
		{"", cmd("rehearse|nightlog@southmere|--as|petra|--suppose",
			"acs=https://nightlog.kestrelridge.example/saml/acs"), 3, part{"REFUSED", 8}},
		{"The OpenID half. An API publishes what it lets clients do, in words for the people who are asked.",
			cmd("app|add|telescope-api|--api|https://telescope.kestrelridge.example|--title|Telescope API"), 0, silent},
		{"", cmd("permission|publish|telescope-api|dome.control|--acting|user|--needs|admin",
			"--says|open, close and turn the dome"), 0, silent},
		{"", cmd("permission|publish|telescope-api|frames.read|--acting|user,self|--says|read the frames of a night",
			"--narrow-records|identifier"),
			0,
			unsaid},
		{"", cmd("permission|publish|telescope-api|frames.write|--acting|self|--says|store frames in the archive"), 0,
			unsaid},
		{"", cmd("permission|publish|telescope-api|schedule.read|--acting|user|--says|see who observes when"), 0,
			unsaid},
		{"", cmd("permission|publish|telescope-api|schedule.write|--acting|user|--says|book and move observing time"),
			0,
			unsaid},
		{"Register the dome scheduler, a web client, and hand over its values with a new secret, in the " +
			"one moment in which it is known.",
			cmd("app|add|dome-scheduler|--client|web|--redirect|https://dome.kestrelridge.example/oidc/callback",
				"--after-sign-out|https://dome.kestrelridge.example/signed-out|"+
					"--contact|tobias.renn@kestrelridge.example",
				"--home-page|https://dome.kestrelridge.example/|--title|Dome Scheduler"), 0, unsaid},
		{"", cmd("federate|dome-scheduler|--with|ridge|--over|oidc"), 0, silent},
		{"", cmd("permission|ask|dome-scheduler@ridge|telescope-api:schedule.read|telescope-api:dome.control|" +
			"offline_access"),
			0, silent},
		{"", cmd("handoff|dome-scheduler@ridge|--for|app|--out|handoff-dome|--with-new-secret|90d"), 0, silent},
		{"", cmd("handoff|dome-scheduler@ridge|--for|app|--delivered|tobias.renn@kestrelridge.example"), 0, unsaid},
		{"Turning the dome waits for an administrator: Mira goes on without it, and the call is refused with the " +
			"reason.",
			cmd("rehearse|dome-scheduler@ridge|--as|mira|--call|telescope-api:dome.control"), 3, part{"REFUSED", 12}},
		{"The director consents for everyone. Now the call is answered.",
			cmd("consent|give|dome-scheduler@ridge|--for|everyone|--actor|aiyana"), 0, silent},
		{"", cmd("rehearse|nightlog@ridge|dome-scheduler@ridge|--as|mira|--call|telescope-api:dome.control"), 0,
			part{"ACCEPTED  dome", 6}},
		{"", cmd("permission|ask|dome-scheduler@ridge|telescope-api:schedule.write"), 0, unsaid},
		{"", cmd("app|add|skyview|--client|user-agent|--redirect|https://skyview.kestrelridge.example/callback",
			"--title|Sky View"), 0, unsaid},
		{"", cmd("federate|skyview|--with|ridge|--over|oidc"), 0, unsaid},
		{"", cmd("rehearse|skyview@ridge|--as|mira"), 0, unsaid},
		{"The image mover acts as itself: nobody signs in there, and an administrator agrees to all of it.",
			cmd("app|add|frame-courier|--client|machine|--title|Frame Courier"), 0, unsaid},
		{"", cmd("federate|frame-courier|--with|ridge|--over|oidc"), 0, unsaid},
		{"", cmd("permission|ask|frame-courier@ridge|telescope-api:frames.read"), 0, unsaid},
		{"", cmd("secret|add|frame-courier@ridge|--lasts|90d|--note|nightly run|--out|courier.secret"), 0, silent},
		{"", cmd("consent|give|frame-courier@ridge|--for|everyone|--actor|aiyana"), 0, silent},
		{"", cmd("rehearse|frame-courier@ridge|--secret-file|courier.secret"), 0, part{"   1  ", 8}},
		{"A token for use in a script, and what stands in it.",
			cmd("token|get|frame-courier@ridge|--secret-file|courier.secret|--out|courier.jwt"), 0, silent},
		{"", cmd("inspect|courier.jwt|--trust|frame-courier@ridge"), 0, part{"", 11}},
		{"Visitors: Southmere's OpenID side is read from what it published, and our own provider becomes its client.",
			cmd("provider|change|southmere|--issuer|https://idp.southmere.example|--discovery|southmere-openid.json",
				"--jwks|southmere-jwks.json"), 0, unsaid},
		{"", cmd("federate|ridge|--with|southmere|--over|oidc|--client-id|kestrel-ridge-7f3a"), 0, silent},
		{"", cmd("handoff|ridge@southmere|--for|provider"), 0, unsaid},
		{"", cmd("rehearse|ridge@southmere|--as|petra"), 0, unsaid},
		{"", cmd("rehearse|nightlog@ridge|--as|mira|--keep|messages|--dry-run"), 0, unsaid},
		{"Where does all of it stand?", cmd("trust|list"), 0, allOf},
		{"And all of it is on record.", cmd("journal|verify"), 0, part{"", 1}},
	}
}

// demoPipeline is what a pipeline does unattended, with a registrar's token: a part of the full story.
func demoPipeline() []demoStep {
	cmd := func(parts ...string) []string { return strings.Split(strings.Join(parts, "|"), "|") }
	return []demoStep{
		{"What a pipeline does: the director makes a registrar, a credential that may touch only what it made.",
			cmd("registrar|add|pipeline|--at-provider|ridge|--kinds|machine,web|--hosts|*.kestrelridge.example",
				"--may-ask|telescope-api:frames.read|--lasts|90d|--out|pipeline.token|--actor|aiyana"), 0, allOf},
		{"With its token the pipeline registers a client. What needs an administrator waits.",
			cmd("registrar|client|register|mover.json|--registrar|pipeline.token|--out|mover-registered.json"),
			0, allOf},
		{"", cmd("consent|list|--waiting"), 0, allOf},
		{"It may not agree to that itself, nor see anything else; a person agrees.",
			cmd("consent|give|night-mover@ridge|--for|everyone|--registrar|pipeline.token"), 1, allOf},
		{"", cmd("consent|give|night-mover@ridge|--for|everyone|--actor|aiyana"), 0, allOf},
		{"The secret is renewed without hands, brought into a file, and the next token is got with it.",
			cmd("secret|renew|night-mover@ridge|--lasts|60d|--out|mover.secret|--registrar|pipeline.token"), 0, allOf},
		{"", cmd("token|get|night-mover@ridge|--secret-file|mover.secret|--out|mover.jwt"), 0, allOf},
		{"", cmd("secret|renew|night-mover@ridge|--lasts|60d|--out|mover.secret|--registrar|pipeline.token"), 0, allOf},
		{"What was tried becomes what is used: a copy with names of its own, and nothing that is secret in it.",
			cmd("trust|copy|night-mover@ridge|--to|mover@ridge|--replace|night-mover=mover",
				"--replace|Night Mover=Mover"),
			0, allOf},
		{"", cmd("trust|compare|night-mover@ridge|mover@ridge"), 0, allOf},
		{"And what stands now, as a file that can be compared and enacted.", cmd("charter|write|mover@ridge"),
			0, allOf},
	}
}
