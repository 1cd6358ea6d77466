// Command describe prints the API's description, OpenAPI 3.1, for docs/openapi.json
// and the console's types.
package main

import (
	"encoding/json"
	"fmt"
	"os"

	"zealousferry/internal/service"
)

func main() {
	out, err := json.MarshalIndent(service.Describe(), "", "  ")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Stdout.Write(append(out, '\n'))
}
