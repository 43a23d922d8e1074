package servers

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"strings"

	"wexillum.example/internal/beside/ldapdir"
	"wexillum.example/internal/freeport"
)

// slapdConf is what somebody loads who prepares a server of their own (docs/systems/ldapdir.md): the folder 1, the base 2,
// the password of who writes entries 3, and of who writes the configuration 4.
const slapdConf = `dn: cn=config
objectClass: olcGlobal
cn: config
olcPidFile: %[1]s/pid

dn: cn=module,cn=config
objectClass: olcModuleList
cn: module
olcModulePath: /usr/lib/ldap
olcModuleLoad: back_mdb

dn: cn=schema,cn=config
objectClass: olcSchemaConfig
cn: schema

include: file:///etc/ldap/schema/core.ldif

include: file:///etc/ldap/schema/cosine.ldif

include: file:///etc/ldap/schema/inetorgperson.ldif

dn: olcDatabase={0}config,cn=config
objectClass: olcDatabaseConfig
olcDatabase: {0}config
olcRootDN: cn=admin,cn=config
olcRootPW: %[4]s

dn: olcDatabase={1}mdb,cn=config
objectClass: olcDatabaseConfig
objectClass: olcMdbConfig
olcDatabase: {1}mdb
olcSuffix: %[2]s
olcRootDN: cn=admin,%[2]s
olcRootPW: %[3]s
olcDbDirectory: %[1]s/db
olcDbMaxSize: 1073741824
olcDbIndex: mail eq
olcDbIndex: objectClass eq
olcAccess: to * by * none
`

// Slapd is a directory server that runs, and what stands beside it.
type Slapd struct {
	*Process
	Beside *ldapdir.Server
}

// Slapd starts a directory server on loopback for a domain.
func (r *Root) Slapd(ctx context.Context, domain string) (*Slapd, error) {
	in, err := r.Folder("directory")
	if err != nil {
		return nil, err
	}
	port, err := freeport.Find()
	if err != nil {
		return nil, err
	}
	for _, d := range []string{"db", "conf"} {
		if err := os.Mkdir(r.Path(in, d), 0o700); err != nil {
			return nil, err
		}
		if err := os.Chown(r.Path(in, d), Nobody, Nobody); err != nil {
			return nil, err
		}
	}
	base := "dc=" + strings.ReplaceAll(domain, ".", ",dc=")
	s := &ldapdir.Server{Config: ldapdir.Config{
		Server: fmt.Sprintf("ldap://127.0.0.1:%d", port), Base: base, Admin: "cn=admin," + base, Password: rand.Text(),
		Database: "olcDatabase={1}mdb,cn=config", Keeper: "cn=admin,cn=config", Secret: rand.Text(),
	}}
	init := in + "/init.ldif"
	if err := os.WriteFile(r.Path(init), fmt.Appendf(nil, slapdConf, in, base, s.Password, s.Secret), 0o600); err != nil {
		return nil, err
	}
	if err := os.Chown(r.Path(init), Nobody, Nobody); err != nil {
		return nil, err
	}
	if out, err := r.Command(ctx, Nobody, "/usr/sbin/slapadd", "-n", "0", "-F", in+"/conf", "-l", init).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("slapadd: %w: %s", err, tail(out))
	}
	p, err := r.Start(ctx, in, []int{port}, r.Command(ctx, Nobody, "/usr/sbin/slapd", "-d", "0", "-F", in+"/conf", "-h", s.Server))
	if err != nil {
		return nil, err
	}
	if err := s.Begin(); err != nil {
		p.Stop()
		return nil, err
	}
	return &Slapd{p, s}, nil
}
