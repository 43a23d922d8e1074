let zone: string | undefined
/** Days and hours are told in the organisation's time zone. */
export function setZone(name: string | undefined) {
  zone = name
}

const months = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']
// As the service and mail write it: browsers differ in how they shorten September.
const date = (d: Date, timeZone = zone) => {
  const p = Object.fromEntries(
    new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'numeric', year: 'numeric', timeZone })
      .formatToParts(d)
      .map((x) => [x.type, x.value]),
  )
  return `${Number(p.day)} ${months[Number(p.month) - 1]} ${p.year}`
}
const time = (d: Date) => d.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', timeZone: zone })

/** The day that it is in the organisation's zone, or so many days from it. */
export function dayFromNow(days = 0): string {
  const today = new Date().toLocaleDateString('en-CA', { timeZone: zone })
  return new Date(Date.parse(`${today}T12:00:00Z`) + days * 86400000).toISOString().slice(0, 10)
}

/** Writes a moment for a reader, in the organisation's zone. */
export function when(at: string): string {
  const d = new Date(at)
  return Number.isNaN(d.getTime()) ? at : `${date(d)}, ${time(d)}`
}

/** Writes a beginning: the day alone where it is the start of one. */
export function since(at: string): string {
  const d = new Date(at)
  return time(d) === '00:00' ? date(d) : when(at)
}

/** Writes an end: at the start of a day it is told by the last day that still holds. */
export function until(at: string): string {
  const d = new Date(at)
  return time(d) === '00:00' ? date(new Date(d.getTime() - 3600000)) : when(at)
}

/** Writes a local day for a reader. */
export function day(d: string): string {
  return new Date(`${d}T12:00:00Z`).toLocaleDateString('en-GB', { weekday: 'short', day: 'numeric', month: 'short', timeZone: 'UTC' })
}

/** Writes a day with its year. */
export function dayYear(d: string): string {
  return date(new Date(`${d}T12:00:00Z`), 'UTC')
}

/** When something is done next; what is due already is done at once. */
export const next = (at: string) => (new Date(at).getTime() <= Date.now() ? 'at once' : when(at))
