module faithfulcourier

go 1.26.0

require (
	github.com/Masterminds/semver/v3 v3.5.0
	github.com/fxamacker/cbor/v2 v2.10.0
	github.com/pelletier/go-toml/v2 v2.4.3
	github.com/rogpeppe/go-internal v1.16.0
	github.com/stretchr/testify v1.12.1
	golang.org/x/term v0.47.0
	pgregory.net/rapid v1.3.0
)

require (
	github.com/x448/float16 v0.8.4 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/sys v0.49.0 // indirect
	golang.org/x/tools v0.26.0 // indirect
)
