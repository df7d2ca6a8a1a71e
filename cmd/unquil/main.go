// Command unquil finds out where and why name resolution fails.
package main

import (
	"os"

	"unquil/ui/cli"
)

func main() { os.Exit(cli.Process()) }
