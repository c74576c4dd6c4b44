// Upload sends a file over SSH or by TFTP as a job does, for scripts/bench-upload: upload ssh|tftp
// ADDRESS FILE REMOTE.
package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"catena/internal/login"
	"catena/internal/wire"
)

func main() {
	if err := run(os.Args[1], os.Args[2], os.Args[3], os.Args[4]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(by, address, file, remote string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err != nil {
		return err
	}
	startedAt := time.Now()
	body := wire.Body{From: f, Size: info.Size()}
	if by == "tftp" {
		err = wire.PutTFTP(context.Background(), address, remote, body)
		fmt.Printf("%.3f\n", time.Since(startedAt).Seconds())
		return err
	}
	s, err := wire.DialSSH(context.Background(), address,
		login.Credential{User: "keeper", Password: os.Getenv("BENCH_PASSWORD")}, nil)
	if err != nil {
		return err
	}
	defer s.Close()
	err = s.Upload(context.Background(), remote, body)
	fmt.Printf("%.3f\n", time.Since(startedAt).Seconds())
	return err
}
