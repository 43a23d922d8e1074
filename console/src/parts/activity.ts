let last = Date.now()

/** Notes that somebody is there: a session lasts while they are, not while a page is merely open. */
export function watchActivity() {
  for (const kind of ['pointerdown', 'pointermove', 'keydown', 'wheel', 'touchstart'])
    addEventListener(kind, () => (last = Date.now()), { passive: true, capture: true })
}

/** Whether nobody has touched the page for a minute. */
export function idle(): boolean {
  return Date.now() - last > 60_000
}
