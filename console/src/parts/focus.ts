/** Puts the focus where the work goes on when what had it goes away: after a dialogue, a deletion, a move. */
export function keepFocus() {
  let around: Element[] = []
  addEventListener('focusin', (e) => {
    around = []
    for (let x = e.target as Element | null; x; x = x.parentElement) around.push(x)
  })
  const look = () => {
    if (document.activeElement !== document.body || around.length === 0 || around[0].isConnected) return
    const open = document.querySelector('.modal.show')
    const home =
      around.find((x) => x.isConnected && x !== document.body && x !== document.documentElement && (!open || open.contains(x))) ??
      open ??
      document.getElementById('main')
    around = []
    if (!(home instanceof HTMLElement)) return
    const next = home.querySelector<HTMLElement>(
      'a[href], button:not(:disabled), input:not(:disabled), select:not(:disabled), textarea:not(:disabled)',
    )
    if (next && home.id !== 'root') next.focus({ preventScroll: true })
    else document.getElementById('main')?.focus({ preventScroll: true })
  }
  new MutationObserver(() => queueMicrotask(look)).observe(document.body, { childList: true, subtree: true })
}
