package e2e

import "testing"

func TestLook(t *testing.T) {
	r := &running{t: t, url: "http://127.0.0.1:8470"}
	p := r.page(browser(t), "harbour")
	p.goTo("/systems", "document.querySelectorAll('.system').length > 3")
	p.shot("/tmp/w/systems.png")
	p.goTo("/systems/meetings", "true")
	p.shot("/tmp/w/meet0.png")
	p.goTo("/systems/meetings", "document.querySelectorAll('h2').length > 0 && document.fonts.status === 'loaded'")
	p.shot("/tmp/w/meet.png")
}
