// Command unquil finds out where and why name resolution fails.
package main

import (
	"context"
	"os"
	"os/signal"

	"unquil/ui/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	code := cli.Main(ctx, os.Args[1:], os.Stdout, os.Stderr, os.Environ())
	stop()
	os.Exit(code)
}
