module zealousferry

go 1.26.0

require (
	github.com/fxamacker/cbor/v2 v2.10.0
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	go.bug.st/serial v1.8.0
	go.yaml.in/yaml/v3 v3.0.6
	golang.org/x/text v0.43.0
)

require (
	github.com/x448/float16 v0.8.4 // indirect
	golang.org/x/sys v0.49.0 // indirect
)
