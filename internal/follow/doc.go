// Package follow sends on what recorders write into a folder, for processes that end before they could send it themselves.
//
// What comes in: files of lines that grow, are renamed, compressed and removed; see docs/follow.md for how they are named. What
// goes out: numbered batches of streams, each line once, whenever and however the follower was stopped in between. What has been
// sent is kept by what a file begins with rather than by its name.
package follow
