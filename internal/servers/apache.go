package servers

import (
	"context"
	"fmt"
	"os"

	"wexillum.example/internal/beside/davfiles"
	"wexillum.example/internal/freeport"
)

// apacheConf is what somebody writes who prepares a server of their own (docs/systems/davfiles.md). The folder that it is
// in is 1, its port 2.
const apacheConf = `ServerRoot /
ServerName localhost
Listen 127.0.0.1:%[2]d
PidFile %[1]s/httpd.pid
ErrorLog %[1]s/error.log
Mutex file:%[1]s
%[3]s
LogFormat "%%t %%u \"%%r\" %%>s" plain
CustomLog %[1]s/access.log plain
DavLockDB %[1]s/locks
DocumentRoot %[1]s/files
<Directory />
  Require all denied
  AllowOverride None
</Directory>
<Directory %[1]s/files>
  Dav On
  AuthType Basic
  AuthName files
  AuthBasicProvider file
  AuthUserFile %[1]s/conf/accounts
  AuthzSendForbiddenOnFailure On
  AllowOverride AuthConfig
  Require all denied
</Directory>
<Files ".*">
  Require all denied
</Files>
RewriteEngine On
RewriteMap links "txt:%[1]s/conf/links.txt"
RewriteMap ends "txt:%[1]s/conf/ends.txt"
RewriteMap switch "txt:%[1]s/conf/switch.txt"
RewriteRule "^/open" - [F]
RewriteRule "^/l/([A-Za-z0-9]+)(/.*)?$" - [E=TO:${links:$1|none},E=END:${ends:$1|0},E=OPENS:${switch:links|off}]
RewriteCond %%{ENV:OPENS} !=on
RewriteRule "^/l/" - [F]
RewriteCond %%{ENV:TO} =none
RewriteRule "^/l/" - [R=404,L]
RewriteCond expr "%%{TIME} >= reqenv('END')"
RewriteRule "^/l/" - [G]
RewriteCond %%{REQUEST_METHOD} !^(GET|HEAD)$
RewriteRule "^/l/" - [F]
RewriteRule "^/l/[A-Za-z0-9]+(/.*)?$" "/open/%%{ENV:TO}$1" [PT]
Alias /open %[1]s/files
<Location /open>
  Dav Off
  Require expr "reqenv('TO') != ''"
</Location>
`

// Apache is a WebDAV server that runs, and what stands beside it.
type Apache struct {
	*Process
	Beside *davfiles.Server
	URL    string
	Folder string // of the machine
}

// Apache starts an Apache with mod_dav on loopback. Ours are our own domains.
func (r *Root) Apache(ctx context.Context, ours []string) (*Apache, error) {
	in, err := r.Folder("files")
	if err != nil {
		return nil, err
	}
	port, err := freeport.Find()
	if err != nil {
		return nil, err
	}
	modules := ""
	for _, m := range []string{"mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic", "dav", "dav_fs", "alias",
		"rewrite", "env"} {
		modules += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
	}
	if err := os.WriteFile(r.Path(in, "httpd.conf"), fmt.Appendf(nil, apacheConf, in, port, modules), 0o600); err != nil {
		return nil, err
	}
	if err := os.Chown(r.Path(in, "httpd.conf"), Nobody, Nobody); err != nil {
		return nil, err
	}
	url := fmt.Sprintf("http://127.0.0.1:%d", port)
	s, err := davfiles.New(davfiles.Config{Files: r.Path(in, "files"), Conf: r.Path(in, "conf"), Log: r.Path(in, "access.log"), Server: url,
		Ours: ours})
	if err != nil {
		return nil, err
	}
	p, err := r.Start(ctx, in, []int{port}, r.Command(ctx, Nobody, "/usr/sbin/apache2", "-f", in+"/httpd.conf", "-DFOREGROUND"))
	if err != nil {
		return nil, err
	}
	return &Apache{p, s, url, r.Path(in)}, nil
}
