// Stations plays the stations of many sites for scripts/bench-fleet: each has a ledger with its
// own chain, in which its devices were found in three scans, and syncs it with the office.
//
//	stations OFFICE FOLDER FIRST LAST DEVICES
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"time"

	"golang.org/x/sync/errgroup"

	"catena/internal/bundle"
	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/office"
	"catena/internal/place"
	"catena/internal/plan"
	"catena/internal/record"
	"catena/internal/shelf"
	"catena/internal/workspace"
)

func main() {
	if err := run(context.Background(), os.Args[1], os.Args[2], os.Args[3:]); err != nil {
		fmt.Fprintln(os.Stderr, "stations:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, at, folder string, numbers []string) error {
	var n [3]int
	for i := range n {
		var err error
		if n[i], err = strconv.Atoi(numbers[i]); err != nil {
			return err
		}
	}
	o, err := office.Open(at)
	if err != nil {
		return err
	}
	s, err := shelf.Open(filepath.Join(folder, "shelf"))
	if err != nil {
		return err
	}
	var group errgroup.Group
	group.SetLimit(2 * runtime.NumCPU())
	for i := n[0]; i <= n[1]; i++ {
		name := fmt.Sprintf("site-%d", i)
		c, err := o.Add(name, 0, time.Now())
		if err != nil {
			return err
		}
		group.Go(func() error {
			if err := station(ctx, c, filepath.Join(folder, name), i, n[2], s); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			return nil
		})
	}
	return group.Wait()
}

// station makes a site, finds its devices three times, and syncs it.
func station(ctx context.Context, c office.Credentials, dir string, number, devices int,
	s *shelf.Shelf) error {
	by, err := ledger.ReadWriter(dir + ".key")
	if err != nil {
		return err
	}
	if _, err := workspace.Create(workspace.NewSite{Name: fmt.Sprintf("Lock %d", number), Dir: dir},
		time.Now, by); err != nil {
		return err
	}
	w, err := plan.Open(dir, time.Now, by)
	if err != nil {
		return err
	}
	defer w.Close()
	if err := w.Ledger.NameWriter(); err != nil {
		return err
	}
	found := make([]*device.Device, devices)
	for scan, version := range []string{"3.0.0", "3.1.0", "3.2.1"} {
		for i := range found {
			if scan == 0 {
				found[i] = &device.Device{Name: fmt.Sprintf("cam-%d", i+1), FoundVia: []string{"http"},
					Access: device.OK, Endpoint: device.Endpoint{Dialect: "onvif",
						Address: fmt.Sprintf("127.%d.%d.%d:80", number%256, i/200, i%200+1)}}
				found[i].Vendor, found[i].Model = "Wexcombe", "WX-40"
				found[i].Serial = fmt.Sprintf("WX4-%d-%d", number, i)
			}
			found[i].Version = version
			if (number+i)%9 == 0 && scan > 1 {
				found[i].Version = "3.1.0" // it is behind
			}
		}
		if err := record.Update(w.Ledger, "", found...); err != nil {
			return err
		}
	}
	if err := w.Match(s); err != nil {
		return err
	}
	var to place.Place
	for range 100 { // the office makes the record of a new site within a second
		if to, err = place.OpenOffice(ctx, c); !errors.Is(err, place.ErrNoRecord) {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	if err != nil {
		return err
	}
	defer to.Close()
	b, err := bundle.Of(w, to)
	if err != nil {
		return err
	}
	_, err = b.Run(ctx)
	return err
}
