module bellwether

go 1.26

require (
	github.com/go-json-experiment/json v1.27.2
	github.com/stretchr/testify v1.12.1
)

require go.yaml.in/yaml/v3 v3.0.5 // indirect
