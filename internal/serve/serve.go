// Package serve is the long-lived process: it starts the jobs of a project when they are due, or keeps this machine as
// the project declares it, and serves what it does to a monitoring system.
package serve
