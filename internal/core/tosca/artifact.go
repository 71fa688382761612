package tosca

import "path"

// Artifact is a file that belongs to a node (section 3.6.7): an image, a script, data.
type Artifact struct {
	Name        string
	Description string
	Type        *Type
	// File is its path from the root template's folder, or what a repository knows it by.
	File string
	// Repository names where File is to be found; "" is beside the template.
	Repository string
	// DeployPath is where on the instance it lies; "" leaves it to the operation that asks for it.
	DeployPath string
	Version    string
	// Checksum is of the algorithm named; only SHA-256 is verified.
	Checksum, Algorithm string
	Properties          map[string]*Value
	Pos                 Pos

	typeName string
	typeAt   place
	// repositoryAt is where Repository is named.
	repositoryAt place
	loaded       bool
}

var artifactKeys = []string{"type", "file", "repository", "description", "deploy_path", "version", "checksum",
	"checksum_algorithm", "properties"}

// artifacts reads artifact definitions.
func (r *reader) artifacts(n node) []*Artifact {
	var out []*Artifact
	for _, p := range r.mapping(n, "artifacts") {
		a := &Artifact{Name: p.name, Pos: p.value.pos()}
		out = append(out, a)
		if p.value.form == scalar {
			a.File = p.value.value
			continue
		}
		if !r.keys(p.value, "an artifact", []string{"file"}, artifactKeys...) {
			continue
		}
		a.File, a.Repository = r.text(p.value, "file"), r.text(p.value, "repository")
		a.DeployPath, a.Description = r.text(p.value, "deploy_path"), r.text(p.value, "description")
		a.Version = r.text(p.value, "version")
		a.Checksum, a.Algorithm = r.text(p.value, "checksum"), r.text(p.value, "checksum_algorithm")
		a.Properties = r.values(p.value, "properties")
		if v, ok := p.value.get("file"); ok {
			a.Pos = v.pos()
		}
		if v, ok := p.value.get("repository"); ok {
			a.repositoryAt = v.place()
		}
		if v, ok := p.value.get("type"); ok {
			a.typeName, a.typeAt = r.qualify(v.doc, v.value), v.place()
		}
	}
	return out
}

// resolveArtifacts finds the types of a node's artifacts and the files they name.
func (r *reader) resolveArtifacts(artifacts []*Artifact, self *Node) {
	for _, a := range artifacts {
		if a.Type == nil && a.typeName != "" {
			if a.Type = r.types.Find(ArtifactTypes, a.typeName); a.Type == nil {
				r.types.unknownType(ArtifactTypes, a.typeName, a.typeAt, &r.diags)
			}
		}
		if a.Type != nil {
			r.checkProperties(a.Type.Properties, a.Properties, a.Type, place{a.Pos, len(a.File)}, self)
		}
		if a.Type != nil && a.Type.Metadata[MetaImage] == "true" {
			continue // a site's image, which is no file of the template
		}
		r.loadArtifact(a)
	}
}

func (r *reader) loadArtifact(a *Artifact) {
	if a.loaded {
		return // a type's, which several nodes share
	}
	a.loaded = true
	from := a.Pos.File
	if a.Repository != "" {
		dir, ok := r.shelf(a.Repository, a.Pos.File, a.repositoryAt, CodeArtifact)
		if !ok {
			return
		}
		from = path.Join(dir, "x")
	}
	file, data := r.openBeside(a.Pos, from, a.File)
	if data == nil {
		return
	}
	a.File = file
	if a.Algorithm == "SHA-256" || a.Algorithm == "sha256" {
		if sum := sha256Hex(data); sum != a.Checksum {
			r.diags.at(place{a.Pos, 1}, CodeArtifact, "the file %s has another checksum: %s", a.File, sum)
		}
	}
}
