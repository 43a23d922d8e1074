package store

import (
	"reflect"
	"testing"

	"github.com/go-sql-driver/mysql"
)

// TestAddresses finds the servers that a data source name names.
func TestAddresses(t *testing.T) {
	for dsn, want := range map[string][]string{
		"u:p@tcp(db1:3306)/w":                    {"db1:3306"},
		"u:p@tcp(db1)/w":                         {"db1:3306"},
		"u:p@tcp([::1]:3306)/w":                  {"[::1]:3306"},
		"u:p@tcp(db1:3306,db2:3307)/w":           {"db1:3306", "db2:3307"},
		"u:p@tcp(db1,db2,db3)/w":                 {"db1:3306", "db2:3306", "db3:3306"},
		"u:p@tcp(db1:3306, db2 ,db3:3308)/w":     {"db1:3306", "db2:3306", "db3:3308"},
		"u:p@tcp(10.0.0.1:3306,10.0.0.2:3306)/w": {"10.0.0.1:3306", "10.0.0.2:3306"},
		"u:p@unix(/run/a,b.sock)/w":              {"/run/a,b.sock"},
	} {
		c, err := mysql.ParseDSN(dsn)
		if err != nil {
			t.Fatal(dsn, err)
		}
		if got := addresses(c); !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %v (of %s), not %v", dsn, got, c.Addr, want)
		}
	}
}
