package people

import (
	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/service/frame"
)

// Routes are the room's calls: who may call what.
func (v *People) Routes(api huma.API) {
	frame.Raw(v.Frame, api, "POST", "/api/session", "sign-in", frame.Anybody, "Sign in with a one-use code or a password", v.signIn)
	frame.Raw(v.Frame, api, "DELETE", "/api/session", "sign-out", frame.Viewer, "Sign out", v.signOut)
	frame.Route(v.Frame, api, "GET", "/api/session", "who-am-i", frame.Viewer, "Who is signed in", v.whoAmI)
	frame.Route(v.Frame, api, "GET", "/api/session/provider", "which-provider", frame.Anybody, "The team's identity provider, if it has one", v.whichProvider)
	frame.Route(v.Frame, api, "POST", "/api/session/provider", "leave-for-provider", frame.Anybody, "Where the browser goes to be signed in by the identity provider (OpenID Connect, code flow with PKCE)", v.leaveFor)
	frame.Route(v.Frame, api, "POST", "/api/session/passkey", "dare-passkey", frame.Anybody, "What a passkey is to sign to sign somebody in", v.daresPasskey)
	frame.Route(v.Frame, api, "POST", "/api/session/confirm/passkey", "dare-again", frame.Viewer, "What a passkey of one's own is to sign to make sure that it is oneself", v.daresAgain)
	frame.Route(v.Frame, api, "POST", "/api/passkeys/begin", "new-passkey", frame.Viewer, "Begin to add a passkey of one's own", v.newPasskey)
	frame.Route(v.Frame, api, "POST", "/api/passkeys", "add-passkey", frame.Viewer, "Keep the passkey that one's device has made", v.addPasskey)
	frame.Route(v.Frame, api, "POST", "/api/passkeys/{id}/end", "end-passkey", frame.Viewer, "Take a passkey of one's own away", v.endPasskey)
	frame.Route(v.Frame, api, "POST", "/api/session/password", "set-password", frame.Viewer, "Set one's own password", v.setPassword)
	frame.Route(v.Frame, api, "POST", "/api/session/codes", "new-sign-in-code", frame.Viewer, "A one-use code to sign in to the console as oneself", v.newSignInCode)
	frame.Route(v.Frame, api, "POST", "/api/session/factor", "new-factor", frame.Viewer, "Make a second factor of one's own (TOTP, RFC 6238); it counts once its first code was shown", v.newFactor)
	frame.Route(v.Frame, api, "POST", "/api/session/confirm", "confirm", frame.Viewer, "Show one's second factor: the first code makes it count, each makes sure for five minutes that it is oneself", v.confirm)
	frame.Route(v.Frame, api, "POST", "/api/people/{person}/factor/end", "end-factor", frame.Lead, "Take somebody's second factor away, whose device is lost", v.endFactor)
	frame.Route(v.Frame, api, "GET", "/api/people", "list-people", frame.Viewer, "The team; where somebody is signed in, for leads and of oneself", v.listPeople)
	frame.Route(v.Frame, api, "POST", "/api/people", "invite", frame.Lead, "Add somebody, who gets a one-use link", v.invite)
	frame.Route(v.Frame, api, "POST", "/api/people/{person}", "change-person", frame.Lead, "Give somebody another role or address", v.changeMember)
	frame.Route(v.Frame, api, "POST", "/api/people/{person}/end", "end-person", frame.Lead, "End somebody's account at once: sessions, tokens, links and streams", v.endMember)
	frame.Route(v.Frame, api, "POST", "/api/people/{person}/link", "link-for-person", frame.Lead, "A new one-use link for somebody", v.newLinkFor)
	frame.Route(v.Frame, api, "POST", "/api/access/tokens", "make-token", frame.Viewer, "Make a token of one's own, with a name, a scope and an end", v.makeToken)
	frame.Route(v.Frame, api, "POST", "/api/access/{id}/end", "end-access", frame.Viewer, "End a session or token: one's own, or as a lead anybody's", v.endAccess)
	frame.Route(v.Frame, api, "POST", "/api/machines", "ask-machine", frame.Anybody, "Ask for a machine to be signed in as somebody (RFC 8628)", v.askMachine)
	frame.Route(v.Frame, api, "POST", "/api/machines/ask", "machine-state", frame.Anybody, "Whether somebody has let the machine in; its token comes once", v.machineState)
	frame.Route(v.Frame, api, "GET", "/api/machines/{code}", "waiting-machine", frame.Viewer, "The machine that waits with a code", v.waitingMachine)
	frame.Route(v.Frame, api, "POST", "/api/machines/{code}", "let-in", frame.Viewer, "Let a machine in as oneself, or refuse it", v.letIn)
	frame.Route(v.Frame, api, "GET", "/api/quotas", "quotas", frame.Lead, "How much one bench or person may send in a day, and who has sent the most today", v.getQuotas)
	frame.Route(v.Frame, api, "POST", "/api/quotas", "put-quotas", frame.Lead, "Settle how much one bench or person may send in a day", v.putQuotas)
}
