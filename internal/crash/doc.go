// Package crash tries what runs, moves and whole lives of deployments survive: workers are killed at random instants, while
// the stand-ins misbehave, and others go on; then what the sites hold is compared with what the plans declare. All of it is
// tests, the long ones of which [make soak] runs.
//
// [make soak]: ../../Makefile
package crash
