package store

import (
	"database/sql"
	"database/sql/driver"
	"errors"
	"io"
	"net"
	"strings"

	"github.com/go-sql-driver/mysql"
)

// Trouble is what is wrong with the database, where an error says so.
type Trouble string

// The kinds of trouble.
const (
	NoTrouble   Trouble = ""
	Away        Trouble = "away"        // it cannot be reached
	ReadOnly    Trouble = "read-only"   // it takes no changes
	Full        Trouble = "full"        // it has no room left
	Crowded     Trouble = "connections" // it takes no more connections
	Interrupted Trouble = "interrupted" // it ended what it was asked
)

// NoSuchName reports whether what was looked for cannot be there: ids are kept in ASCII, and a name beyond it
// is compared with none of them (MariaDB error 1267).
func NoSuchName(err error) bool {
	var e *mysql.MySQLError
	return errors.As(err, &e) && e.Number == 1267
}

// TroubleOf finds what is wrong with the database, by the errors of the driver and the codes
// of the server (MariaDB error codes).
func TroubleOf(err error) Trouble {
	var e *mysql.MySQLError
	if errors.As(err, &e) {
		switch e.Number {
		case 1040, 1203, 1226:
			return Crowded
		case 1290, 1792, 1836:
			return ReadOnly
		case 1021, 1114:
			return Full
		case 1030: // the storage engine says why, by the operating system's number
			if strings.Contains(e.Message, "28") {
				return Full
			}
		case 1053, 1077, 1079, notWith:
			return Away
		case 1205, 1213, 1317, 1927, 1969, 4024, 4031:
			return Interrupted
		}
		return NoTrouble
	}
	var n net.Error
	if errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, sql.ErrConnDone) ||
		errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.As(err, &n) {
		return Away
	}
	return NoTrouble
}
