// Package pages reads the rows of a damaged SQLite database without SQLite: page by page, each by itself, so that a page that cannot be read
// costs what is on it and nothing else.
//
// What comes in: a database file, and the write-ahead log beside it. What goes out: the rows of all table leaves, without the names of their
// tables. The layout is that of https://sqlite.org/fileformat2.html.
package pages
