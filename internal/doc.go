// Package internal holds tests of the program's shape and words: which package may
// import which, and which names are kept.
package internal
