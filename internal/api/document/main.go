// Command document prints the OpenAPI document, for the console's types.
package main

import (
	"bytes"
	"encoding/json"
	"log"
	"log/slog"
	"os"

	"amber.example/gatekeeper/internal/api"
)

func main() {
	raw, err := api.New(api.Config{Log: slog.Default(), Version: "1"}).OpenAPI()
	if err != nil {
		log.Fatal(err)
	}
	var out bytes.Buffer
	if err := json.Indent(&out, raw, "", "  "); err != nil {
		log.Fatal(err)
	}
	if _, err := out.WriteTo(os.Stdout); err != nil {
		log.Fatal(err)
	}
}
