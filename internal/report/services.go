package report

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// Services writes which services share a log, and how far each is.
func Services(out io.Writer, list views.ServiceList, s Style) {
	if !list.Shared {
		fmt.Fprintln(out, "This service works alone, on its data folder. 'keenlantern serve --log' has several share a log.")
		return
	}
	fmt.Fprintf(out, "%s the log %s: %s, %s\n", s.paint(bold, finding.Count(int64(len(list.Services)), "service uses", "services share")), Clean(list.Log), finding.Count(int64(list.Partitions), "partition", "partitions"), between(list))
	if !slices.ContainsFunc(list.Services, func(one views.ServiceState) bool { return one.This }) {
		fmt.Fprintln(out, "The log does not answer the service that was asked: it cannot be reached, or most of its servers are down. Batches are rejected with Retry-After until it does.")
	}
	if len(list.Services) == 0 {
		return
	}
	rows := [][]string{}
	for _, one := range list.Services {
		id := Clean(one.ID)
		if one.This {
			id += " (asked)"
		}
		behind := "no"
		if one.LagBatches > 0 {
			behind = finding.Count(one.LagBatches, "batch", "batches") + ", " + Took(one.LagNS)
		}
		rows = append(rows, []string{id, Clean(one.Address), Clean(one.Version), strconv.Itoa(len(one.Partitions)), Ranges(one.Partitions), behind, strconv.Itoa(one.Streams)})
	}
	FitTable(out, s, []string{"  service", "address", "version", "works on", "partitions", "behind", "recordings"}, inset(rows), []int{4, 1}, 3, 6)
}

// between reports whether all partitions are worked on.
func between(list views.ServiceList) string {
	switch n := list.Free + list.Reading; {
	case n == 0:
		return "all of them worked on"
	case n == 1:
		return "1 of them being taken over"
	default:
		return fmt.Sprintf("%d of them being taken over", n)
	}
}

// Ranges writes growing numbers as ranges, such as 0-3, 7.
func Ranges(list []int) string {
	var parts []string
	for n := 0; n < len(list); {
		last := n
		for last+1 < len(list) && list[last+1] == list[last]+1 {
			last++
		}
		part := strconv.Itoa(list[n])
		if last > n {
			part += "-" + strconv.Itoa(list[last])
		}
		parts = append(parts, part)
		n = last + 1
	}
	return strings.Join(parts, ", ")
}
