// Command dial tries to connect to every address of an IPv4 network at one port, a
// number of them at a time, and does nothing else: what a scan is measured against.
//
//	dial NETWORK PORT LANES TIMEOUT
package main

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"strconv"
	"sync"
	"time"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "dial:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) != 4 {
		return fmt.Errorf("wants NETWORK PORT LANES TIMEOUT")
	}
	network, err := netip.ParsePrefix(args[0])
	if err != nil {
		return err
	}
	lanes, err := strconv.Atoi(args[2])
	if err != nil {
		return err
	}
	timeout, err := time.ParseDuration(args[3])
	if err != nil {
		return err
	}
	addresses := make(chan netip.Addr)
	var work sync.WaitGroup
	for range lanes {
		work.Go(func() {
			d := net.Dialer{Timeout: timeout}
			for a := range addresses {
				if c, err := d.Dial("tcp", net.JoinHostPort(a.String(), args[1])); err == nil {
					_ = c.Close()
				}
			}
		})
	}
	for a := network.Masked().Addr(); network.Contains(a); a = a.Next() {
		addresses <- a
	}
	close(addresses)
	work.Wait()
	return nil
}
