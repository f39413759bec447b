// Package pages reads the rows of a damaged SQLite database without SQLite: it reads each page separately, so that an unreadable page costs
// only its own rows.
//
// Input: a database file and its write-ahead log. Output: the rows of all table leaves, without the names of their tables. The layout is that of https://sqlite.org/fileformat2.html.
package pages
