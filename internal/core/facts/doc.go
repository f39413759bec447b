// Package facts answers what several readers ask of the world that the ledger draws: who keeps whom through what. Each
// answer is worked out once, in one way, for rules and views alike.
//
// What comes in: a ledger.World and its changes, before any rule sees them. What goes out: typed facts. Walks mark what
// they have seen instead of listing every way, so that the work of one event is bounded by the part of the graph that it
// touches and by the constants here, whatever the graph looks like.
//
// The package reports nothing and changes nothing in the world but what it hangs on instances under tags of its own.
package facts
