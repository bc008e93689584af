// Serve creates the garden of the demonstration in a folder and serves its upstream site,
// including the faulty paths, until it is interrupted:
//
//	go run ./demo/serve DIR
package main

import (
	"fmt"
	"os"
	"os/signal"
	"path/filepath"

	"fernladder/demo/garden"
	"fernladder/demo/upstream"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: serve DIR")
		os.Exit(2)
	}
	if err := serve(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func serve(dir string) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	archives, err := garden.Archives()
	if err != nil {
		return err
	}
	site, err := upstream.Start(archives)
	if err != nil {
		return err
	}
	defer site.Close()
	if err := garden.Write(dir, site.URL, archives); err != nil {
		return err
	}
	fmt.Printf("%s is served at %s\n", dir, site.URL)
	interrupted := make(chan os.Signal, 1)
	signal.Notify(interrupted, os.Interrupt)
	<-interrupted
	return nil
}
