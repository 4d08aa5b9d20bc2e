// Command adytum is the client.
package main

import (
	"context"
	"os"

	"adytum.example/internal/command"
)

func main() {
	os.Exit(command.Run(context.Background(), os.Args))
}
