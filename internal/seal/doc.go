// Package seal encrypts archives for those who may read them, with age (https://age-encryption.org/v1).
package seal
