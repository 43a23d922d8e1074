// Package catalogue holds the rules and the actions as data: one entry in one
// place for each. The engine, the file format, the API, the client, the console
// and the docs follow from it; nothing outside repeats a scale, a layer or what
// an action asks.
//
// The package knows no world: no partner, no person, no resource that exists.
package catalogue
