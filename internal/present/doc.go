// Package present is the home of every rendering of a result. Each package below it is one form, and a function of a
// writer and a value: a [record.Run] that has just ended and one that was read from the history are drawn alike. None
// of them asks, decides or keeps anything.
//
//	text         for people, on a terminal or in a file
//	live         a run while it goes, on a terminal
//	html         pages for a browser, without a network
//	document     what --output json prints
//	junit, csv, markdown, sarif, openmetrics, jsonschema   for other programs
//
// Texts that came from elsewhere may hold anything: each form has its own way to keep them from steering whoever reads
// it, and TestHostileTexts holds all of them to it.
package present
