module faithfulcourier

go 1.26.0

require (
	github.com/Masterminds/semver/v3 v3.5.0
	github.com/pelletier/go-toml/v2 v2.4.3
	golang.org/x/term v0.47.0
)

require (
	github.com/stretchr/testify v1.12.1 // indirect
	golang.org/x/sys v0.49.0 // indirect
	pgregory.net/rapid v1.3.0 // indirect
)
