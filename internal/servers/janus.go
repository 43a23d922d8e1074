package servers

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"time"

	"wexillum.example/internal/beside/videorooms"
	"wexillum.example/internal/freeport"
)

// janusFiles are what somebody writes who prepares a server of their own (docs/systems/videorooms.md): the folder 1, the port 2,
// the key of rooms 3. All doors but one are shut: other plugins and transports are not loaded.
var janusFiles = map[string]string{
	"janus.jcfg": `general: {
  configs_folder = "%[1]s/conf"
  plugins_folder = "/usr/lib/x86_64-linux-gnu/janus/plugins"
  transports_folder = "/usr/lib/x86_64-linux-gnu/janus/transports"
  loggers_folder = "%[1]s/none"
  events_folder = "%[1]s/none"
  debug_level = 2
}
plugins: {
  disable = "libjanus_audiobridge.so,libjanus_duktape.so,libjanus_echotest.so,libjanus_lua.so,libjanus_nosip.so,libjanus_recordplay.so,libjanus_sip.so,libjanus_streaming.so,libjanus_textroom.so,libjanus_videocall.so,libjanus_voicemail.so"
}
transports: {
  disable = "libjanus_mqtt.so,libjanus_nanomsg.so,libjanus_pfunix.so,libjanus_rabbitmq.so,libjanus_websockets.so"
}
`,
	"janus.transport.http.jcfg": `general: {
  json = "compact"
  base_path = "/janus"
  http = true
  port = %[2]d
  ip = "127.0.0.1"
  https = false
}
admin: {
  admin_http = false
  admin_https = false
}
`,
	"janus.plugin.videoroom.jcfg": `general: {
  admin_key = "%[3]s"
  string_ids = true
}
`,
}

// Janus is a conference server that runs, and what stands beside it.
type Janus struct {
	*Process
	Beside *videorooms.Server
	stop   context.CancelFunc
}

// Janus starts a conference server on loopback. Of whoever is not of ours it is asked, when they come in and every so
// often while they are inside.
func (r *Root) Janus(ctx context.Context, ours []string, every time.Duration,
	asks func(ctx context.Context, address, action, meeting string) (videorooms.Asked, error)) (*Janus, error) {
	in, err := r.Folder("meetings")
	if err != nil {
		return nil, err
	}
	port, err := freeport.Find()
	if err != nil {
		return nil, err
	}
	key := rand.Text()
	for _, d := range []string{"conf", "none"} {
		if err := os.Mkdir(r.Path(in, d), 0o700); err != nil {
			return nil, err
		}
		if err := os.Chown(r.Path(in, d), Nobody, Nobody); err != nil {
			return nil, err
		}
	}
	for name, text := range janusFiles {
		f := r.Path(in, "conf", name)
		if err := os.WriteFile(f, fmt.Appendf(nil, text+"%[4]s", in, port, key, ""), 0o600); err != nil {
			return nil, err
		}
		if err := os.Chown(f, Nobody, Nobody); err != nil {
			return nil, err
		}
	}
	p, err := r.Start(ctx, in, []int{port}, r.Command(ctx, Nobody, "/usr/bin/janus", "-F", in+"/conf", "-C", in+"/conf/janus.jcfg"))
	if err != nil {
		return nil, err
	}
	j := &Janus{Process: p, Beside: videorooms.New(videorooms.Config{Server: fmt.Sprintf("http://127.0.0.1:%d/janus", port), Key: key,
		Ours: ours, Asks: asks, Every: every, Stays: time.Minute})}
	watching, stop := context.WithCancel(context.WithoutCancel(ctx))
	j.stop = stop
	go j.Beside.Watch(watching, nil)
	return j, nil
}

// Stop ends it.
func (j *Janus) Stop() {
	j.stop()
	j.Process.Stop()
}
