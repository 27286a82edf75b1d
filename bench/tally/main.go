// Command tally reads the output of `go test -json`, prints what failed, and
// counts the tests.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
)

type event struct{ Action, Package, Test, Output string }

func main() {
	f, err := os.Open(os.Args[1])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	defer f.Close()
	counts := map[string]int{}
	output := map[string][]string{}
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		var e event
		if json.Unmarshal(lines.Bytes(), &e) != nil {
			fmt.Println(lines.Text())
			continue
		}
		key := e.Package + " " + e.Test
		switch e.Action {
		case "output":
			output[key] = append(output[key], e.Output)
		case "build-output":
			fmt.Print(e.Output)
		case "pass", "fail", "skip":
			if e.Test != "" {
				counts[e.Action]++
			}
			if e.Action == "fail" || e.Action == "skip" && e.Test != "" {
				for _, line := range output[key] {
					fmt.Print(line)
				}
			} else if e.Test == "" {
				fmt.Printf("%s\t%s\n", e.Action, e.Package)
			}
			delete(output, key)
		}
	}
	fmt.Printf("%d passed, %d failed, %d skipped\n", counts["pass"], counts["fail"], counts["skip"])
}
