// Command describe prints the OpenAPI document, from which the console's types
// are generated. It needs neither a service nor the built console.
package main

import (
	"fmt"
	"os"

	"adytum.example/internal/api"
)

func main() {
	document, err := api.Document()
	if err != nil {
		fmt.Fprintln(os.Stderr, "describe:", err)
		os.Exit(1)
	}
	_, _ = os.Stdout.Write(document)
}
