// Package submit hands an archive to a vendor and keeps the proof that it arrived.
package submit
