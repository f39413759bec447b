// Command demo runs the harbour pilot office against three services that share a log of three servers, kills one of each, and
// shows that nothing was lost: 'make demo MANY=1'.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"keenlantern.example/demo/harbour"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/many"
	"keenlantern.example/record"
)

func main() {
	bin := flag.String("program", "bin/keenlantern", "the program's `FILE`")
	data := flag.String("data", "", "keep everything in this `FOLDER`; none: a temporary one")
	once := flag.Bool("once", false, "exit after printing")
	requests := flag.Int("requests", 1500, "send `N` requests to the office")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, *bin, *data, *requests, *once); err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, bin, data string, requests int, once bool) (err error) {
	temp, err := os.MkdirTemp("", "keenlantern-many")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(temp)) }()
	if data == "" {
		data = temp
	} else if data, err = filepath.Abs(filepath.Join(data, "many")); err != nil {
		return err
	} else if err := os.MkdirAll(data, 0o700); err != nil {
		return err
	}
	server, err := many.BuildLog(temp)
	if err != nil {
		return err
	}
	servers, err := many.StartLog(server, data, 3)
	if err != nil {
		return err
	}
	defer servers.Stop()
	fleet, err := many.StartFleet(bin, data, servers, 3, "--log-lease", "3s")
	if err != nil {
		return err
	}
	defer fleet.Stop()
	if err := ready(ctx, fleet.URL(0)); err != nil {
		return err
	}
	front, err := many.Balance(fleet.URLs())
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	balancer := &http.Server{Handler: front, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = balancer.Serve(listener) }() // until it is closed
	defer balancer.Close()
	address := "http://" + listener.Addr().String()
	fmt.Printf("Three services share a log of three servers; a load balancer in front of them listens at %s\n\n", address)
	if err := show(bin, fleet.URL(0), "services"); err != nil {
		return err
	}

	rec, err := record.Start(record.Config{App: "harbour-office", Version: "1.5.0", Environment: "production", Service: address, Memory: 64 << 20, Problem: func(err error) {
		fmt.Printf("  (the recorder holds what it has: %v)\n", err)
	}})
	if err != nil {
		return err
	}
	stream := rec.Stream()
	office, err := harbour.Start(rec, []string{harbour.Mistakes[0].Name})
	if err != nil {
		return errors.Join(err, rec.Close(ctx))
	}
	fmt.Printf("\nThe harbour pilot office takes %d requests and is recorded through the load balancer.\n", requests)
	worked := make(chan error, 1)
	go func() { worked <- harbour.Work(ctx, office, requests, 4, 15*time.Millisecond) }()
	time.Sleep(time.Second)
	fmt.Printf("\nMeanwhile service 2, at %s, and server 3 of the log are killed (kill -9).\n", fleet.URL(1))
	fleet.Kill(1)
	servers.Kill(2)
	if err := until(ctx, "the others have not taken over", func() (bool, error) {
		var list views.ServiceList
		ok, err := asked(fleet.URL(0)+"/api/v1/services", &list)
		others := 0
		for _, s := range list.Services {
			if s.Address != fleet.URL(1) && len(s.Partitions) > 0 {
				others++
			}
		}
		return ok && others == 2 && len(list.Services) == 2 && list.Free+list.Reading == 0, err
	}); err != nil {
		return err
	}
	fmt.Println("\nThe other two have taken over what it worked on.")
	if err := show(bin, fleet.URL(0), "services"); err != nil {
		return err
	}
	if err := errors.Join(servers.Start(2), fleet.Start(1)); err != nil {
		return err
	}
	err = <-worked
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
	defer cancel()
	if err = errors.Join(err, office.Close(end), rec.Close(end)); err != nil {
		return fmt.Errorf("run the harbour office: %w", err)
	}
	fmt.Println("\nBoth run again, and the office has ended.")
	if err := until(ctx, "not all services have partitions", func() (bool, error) {
		var list views.ServiceList
		ok, err := asked(fleet.URL(1)+"/api/v1/services", &list)
		works := 0
		for _, s := range list.Services {
			if len(s.Partitions) > 0 {
				works++
			}
		}
		return ok && works == 3 && list.Free+list.Reading == 0, err
	}); err != nil {
		return err
	}
	if err := show(bin, fleet.URL(1), "services"); err != nil {
		return err
	}
	totals := rec.Totals()
	fmt.Printf("\nThe recorder has written %d events and lost %d. What each service says of the recording:\n\n", totals.Events, totals.Lost)
	for k, url := range fleet.URLs() {
		one, err := ended(ctx, url, stream)
		if err != nil {
			return err
		}
		fmt.Printf("  service %d: %d lines read, %d lost, %d scopes, %d instances\n", k+1, one.Health.Lines, one.Health.Lost, one.Figures.Scopes, one.Figures.Instances)
		if one.Health.Lines != totals.Events {
			return fmt.Errorf("service %d has %d lines of %d", k+1, one.Health.Lines, totals.Events)
		}
	}
	fmt.Println()
	if err := show(bin, address, "findings", "latest"); err != nil {
		return err
	}
	if once {
		return nil
	}
	fmt.Printf("\nThe console: %s/services\nCtrl-C ends it.\n", address)
	<-ctx.Done()
	return nil
}

// show runs a command of the program, and prints it before what it prints. That something was found is no failure.
func show(bin, server string, args ...string) error {
	fmt.Printf("$ keenlantern %s\n", args[0])
	cmd := exec.Command(bin, append(args, "--server", server)...)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	var ended *exec.ExitError
	if err := cmd.Run(); err != nil && (!errors.As(err, &ended) || ended.ExitCode() != 1) {
		return fmt.Errorf("keenlantern %s: %w", args[0], err)
	}
	return nil
}

// asked asks a service; false where it cannot answer yet.
func asked(url string, into any) (bool, error) {
	res, err := http.Get(url)
	if err != nil {
		return false, nil
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusServiceUnavailable {
		return false, nil
	}
	if res.StatusCode != http.StatusOK {
		return false, fmt.Errorf("%s: %s", url, res.Status)
	}
	return true, json.NewDecoder(res.Body).Decode(into)
}

// until asks again and again until done.
func until(ctx context.Context, what string, done func() (bool, error)) error {
	late := time.After(time.Minute)
	for {
		if ok, err := done(); ok || err != nil {
			return err
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-late:
			return fmt.Errorf("%s after a minute", what)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// ready waits until all partitions are worked on.
func ready(ctx context.Context, url string) error {
	return until(ctx, "the services are not ready", func() (bool, error) { return asked(url+"/readyz", &struct{}{}) })
}

// ended waits until a service has all of a stream.
func ended(ctx context.Context, url, stream string) (one views.RecordingDetail, err error) {
	err = until(ctx, "the recording is not complete", func() (bool, error) {
		one = views.RecordingDetail{}
		if ok, err := asked(url+"/api/v1/recordings/latest", &one); !ok || err != nil {
			return false, err
		}
		for _, s := range one.StreamList {
			if s.Stream == stream && s.Ended {
				return true, nil
			}
		}
		return false, nil
	})
	return one, err
}
