/** Says something to whoever listens to the page instead of looking at it. */
export function announce(text: string) {
  const at = document.getElementById('announcer')
  if (at) at.textContent = text
}
