//go:build race

package store

import "golang.org/x/crypto/bcrypt"

// passwordCost under the race detector, with which nobody goes to work: there a hash would take more than a second.
const passwordCost = bcrypt.MinCost
