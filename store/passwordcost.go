//go:build !race

package store

import "golang.org/x/crypto/bcrypt"

// passwordCost is how much work checking a password is.
const passwordCost = bcrypt.DefaultCost
