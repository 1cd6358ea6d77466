package catalogue

import (
	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/service/frame"
)

// Routes are the room's calls: who may call what.
func (v *Catalogue) Routes(api huma.API) {
	frame.Route(v.Frame, api, "GET", "/api/models", "list-models", frame.Viewer, "Models, a page at a time", v.listModels)
	frame.Upload(v.Frame, api, "PUT", "/api/models", "put-model", frame.Lead, "Put a model sheet in force", "application/yaml", v.putModel)
	frame.Route(v.Frame, api, "POST", "/api/models/{model}/secrets", "put-secret", frame.Lead, "Enter a secret that a model's units ask for, or remove it; it is never shown again", v.putSecret)
	frame.Route(v.Frame, api, "GET", "/api/models/{model}", "get-model", frame.Viewer, "A model, its sheet, and the matrix of revisions and releases", v.getModel)
	frame.Route(v.Frame, api, "GET", "/api/targets", "list-targets", frame.Viewer, "Which release the team uses for which model and revision", v.listTargets)
	frame.Route(v.Frame, api, "POST", "/api/targets", "put-target", frame.Lead, "Choose the release that the team uses for a model and revision", v.putTarget)
	frame.Upload(v.Frame, api, "POST", "/api/images", "put-image", frame.Lead, "Keep an image file", "application/octet-stream", v.putImage)
	frame.Upload(v.Frame, api, "POST", "/api/images/inspect", "inspect-image", frame.Viewer, "Look at a firmware file without keeping it", "application/octet-stream", v.inspect)
	frame.Upload(v.Frame, api, "POST", "/api/images/diff", "diff-images", frame.Viewer, "How two firmware files differ", "application/octet-stream", v.diffImages)
	frame.RawUpload(v.Frame, api, "POST", "/api/images/convert", "convert-image", frame.Viewer, "A firmware file in another format", "application/octet-stream", v.convertImage)
	frame.Raw(v.Frame, api, "GET", "/api/images/{digest}", "get-image", frame.Technician, "An image file by its SHA-256", v.getImage)
	frame.Route(v.Frame, api, "GET", "/api/releases", "list-releases", frame.Viewer, "Releases, searched, a page at a time", v.listReleases)
	frame.Route(v.Frame, api, "POST", "/api/releases", "add-release", frame.Lead, "Add a release", v.addRelease)
	frame.Route(v.Frame, api, "GET", "/api/releases/{release}", "get-release", frame.Viewer, "A release by id or MODEL@VERSION", v.getRelease)
	frame.Raw(v.Frame, api, "GET", "/api/releases/{release}/document", "get-document", frame.Viewer, "A release's document, byte for byte, to be signed", v.getDocument)
	frame.Route(v.Frame, api, "POST", "/api/releases/{release}/withdraw", "withdraw-release", frame.Lead, "Take a release back, with a reason", v.withdraw)
	frame.Route(v.Frame, api, "POST", "/api/releases/{release}/take-out", "take-out-release", frame.Lead, "Take a release out of the catalogue that nobody has used yet; its version is free again", v.takeOut)
	frame.Route(v.Frame, api, "POST", "/api/releases/{release}/accept", "accept-release", frame.Lead, "Vouch by name for images that no trusted key signed", v.acceptRelease)
	frame.Route(v.Frame, api, "POST", "/api/releases/{release}/sign", "sign-release", frame.Lead, "Enter a signature of a release's document", v.signRelease)
	frame.Upload(v.Frame, api, "POST", "/api/packs", "import-pack", frame.Lead, "Take in a release pack", "application/zip", v.importPack)
	frame.Route(v.Frame, api, "GET", "/api/keys", "list-keys", frame.Viewer, "Keys whose signatures count", v.listKeys)
	frame.Route(v.Frame, api, "POST", "/api/keys", "add-key", frame.Lead, "Decide to trust a key", v.addKey)
	frame.Route(v.Frame, api, "POST", "/api/keys/{key}/revoke", "revoke-key", frame.Lead, "End the trust in a key", v.revokeKey)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/secret", "bench-secret", frame.BenchOnly, "A secret of the team's for an open run; each time is noted", v.benchSecret)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/key", "bench-key", frame.BenchOnly, "The key that is made of a module's seed with a secret of the team's, for an open run; each time is noted", v.benchSeedKey)
}
