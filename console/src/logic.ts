// What can be tried without a page: the tests load this module into a browser and call it.
export { dayFromNow, setZone, since, until, when } from './parts/dates'
export { addressed, towardsDraft } from './operations'
export { idOf } from './parts/ids'
export { Failure, failed } from './api'
