// Command describe prints what the console is generated from: the API's description,
// OpenAPI 3.1, asked for names the words of core/words in TypeScript, and asked for
// messages the page of all messages.
package main

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"

	"zealousferry/core/words"
	"zealousferry/core/words/catalogue"
	"zealousferry/internal/service"
)

func main() {
	switch {
	case len(os.Args) > 1 && os.Args[1] == "names":
		names()
		return
	case len(os.Args) > 1 && os.Args[1] == "messages":
		all, err := catalogue.Read(".")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		fmt.Print(catalogue.Page(all))
		return
	}
	out, err := json.MarshalIndent(service.Describe(), "", "  ")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Stdout.Write(append(out, '\n'))
}

func names() {
	fmt.Println("// Made from core/words by make types; not to be changed by hand.")
	for _, of := range slices.Sorted(maps.Keys(words.All)) {
		fmt.Printf("\nexport const %s: Record<string, string> = {\n", of)
		for _, value := range slices.Sorted(maps.Keys(words.All[of])) {
			key, _ := json.Marshal(value)
			name, _ := json.Marshal(words.All[of][value])
			fmt.Printf("  %s: %s,\n", key, name)
		}
		fmt.Println("}")
	}
}
