// Command write finds out what of others is in the programs and the console, refuses licences that are not allowed, and writes the bill of
// materials and the texts of the licences.
package main

import (
	"fmt"
	"os"
	"strconv"
	"time"

	"wexillum.example/internal/parts"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) < 6 {
		return fmt.Errorf("usage: write VERSION SECONDS CONSOLE BILL TEXTS PROGRAM")
	}
	seconds, err := strconv.ParseInt(args[1], 10, 64)
	if err != nil {
		return err
	}
	list, err := parts.OfPrograms(args[5:]...)
	if err != nil {
		return err
	}
	of, err := parts.OfConsole(args[2])
	if err != nil {
		return err
	}
	list = append(list, of...)
	if err := parts.Check(list); err != nil {
		return err
	}
	bill, err := os.Create(args[3])
	if err != nil {
		return err
	}
	defer bill.Close()
	if err := parts.Bill(bill, args[0], time.Unix(seconds, 0), list); err != nil {
		return err
	}
	texts, err := os.Create(args[4])
	if err != nil {
		return err
	}
	defer texts.Close()
	if err := parts.Texts(texts, list); err != nil {
		return err
	}
	fmt.Printf("%d parts of others, all under licences that are allowed\n", len(list))
	return nil
}
