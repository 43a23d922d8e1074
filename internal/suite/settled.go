package suite

import "fmt"

// Settled fills an empty harbour as one is that is years old: so many visitors from forty towns, brought by
// a dozen of the crew, each with a pass to one of thirty berths. A harbour that holds any is left alone.
func (p *Program) Settled(visitors int) error {
	if p.Name != "quay" || visitors == 0 || len(p.Things("visitors")) > 0 {
		return nil
	}
	var berths []string
	for i := range min(30, visitors) {
		id, err := p.put("berths", "", map[string]string{"mark": fmt.Sprintf("berth-%02d", i+1), "name": fmt.Sprintf("Berth %d", i+1),
			"keeper": crew(i)}, crew(i), true)
		if err != nil {
			return err
		}
		berths = append(berths, id)
	}
	for i := range visitors {
		mail := fmt.Sprintf("visitor%04d@town%02d.example", i+1, i%40+1)
		if _, err := p.put("visitors", "", map[string]string{"mail": mail, "standing": []string{"aboard", "aboard", "aboard", "ashore"}[i%4],
			"brought-by": crew(i)}, crew(i), true); err != nil {
			return err
		}
		if _, err := p.put("passes", "", map[string]string{"mail": mail, "place": berths[i%len(berths)], "may": []string{"look", "add"}[i%2]},
			crew(i), true); err != nil {
			return err
		}
	}
	return nil
}

func crew(i int) string { return fmt.Sprintf("crew%02d@%s", i%12+1, "harbour.example") }
