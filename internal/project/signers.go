package project

import (
	"fmt"

	"faithfulcourier/internal/versions"
)

// TrustedSigners are the public keys of signers, without their comments.
func (p *Project) TrustedSigners() ([]string, error) {
	var keys []string
	for _, text := range p.Config.Signers {
		key, _, err := versions.ParseSigner(text)
		if err != nil {
			return nil, fmt.Errorf("faithful.toml names a signer: %w", err)
		}
		keys = append(keys, key)
	}
	return keys, nil
}
