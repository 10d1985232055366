// Command amber is the gateway's service (amber serve) and its client.
package main

import (
	"context"
	"os"

	"amber.example/gatekeeper/internal/cli"
)

// version is set by the build.
var version = "dev"

func main() {
	os.Exit(cli.Main(context.Background(), os.Args, os.Stdin, os.Stdout, os.Stderr, version))
}
