package project

import (
	"context"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// FirstManifest reads the manifest that the newest commit of the first branch has; nil when it
// has none.
func (p *Project) FirstManifest(ctx context.Context) (*manifest.Manifest, error) {
	first, err := p.Chest.Branch(ctx, chest.FirstBranch)
	if err != nil || first.Tip == (ledger.ID{}) {
		return nil, err
	}
	tip, err := p.Chest.Commit(ctx, first.Tip)
	if err != nil {
		return nil, err
	}
	f, err := p.Chest.At(tip.Tree, manifest.Name)
	if err != nil || f.Mode == 0 {
		return nil, chest.Explain(err)
	}
	if p.rules.manifest == nil || p.rules.of != f.Digest {
		m, err := p.ManifestIn(tip.Tree)
		if err != nil {
			return nil, err
		}
		p.rules.manifest, p.rules.of = m, f.Digest
	}
	return p.rules.manifest, nil
}

// ManifestIn reads the manifest of a tree; one that is missing declares nothing.
func (p *Project) ManifestIn(tree content.Digest) (*manifest.Manifest, error) {
	f, err := p.Chest.At(tree, manifest.Name)
	if err != nil || f.Mode == 0 {
		return &manifest.Manifest{}, err
	}
	data, err := state.ReadFile(p.TreeState(tree, chest.FirstBranch), manifest.Name)
	if err != nil {
		return nil, err
	}
	return p.ReadManifest(data)
}
