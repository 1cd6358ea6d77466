// Words and figures for people. Every number has its unit, every time its zone.
import type { Run } from './api/client'
import { seats as seatNames } from './api/names'

// say fills in a message: {1}, {2}, … are what is put into it, in order. A message is named by
// its own words; docs/messages.md lists those of the pages beside those of the service.
export function say(text: string, ...put: unknown[]): string {
  return text.replace(/\{(\d+)\}/g, (_, n) => String(put[Number(n) - 1] ?? ''))
}

// sayOf is one of two messages, for one and for any other number; the number is put in first.
export function sayOf(one: string, many: string, n: number, ...put: unknown[]): string {
  return say(n === 1 ? one : many, n, ...put)
}

// listed sets what there is of some values side by side; each of them stands for itself.
export function listed(...values: unknown[]): string {
  return values.filter(Boolean).join(', ')
}

export function zone(t: Date): string {
  const m = -t.getTimezoneOffset()
  if (m === 0) return 'UTC'
  const h = Math.trunc(m / 60)
  const rest = Math.abs(m % 60)
  return `UTC${h >= 0 ? '+' : '−'}${Math.abs(h)}${rest ? ':' + String(rest).padStart(2, '0') : ''}`
}

const two = (n: number) => String(n).padStart(2, '0')
const months = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']

export function day(at: string | Date): string {
  const t = new Date(at)
  return `${two(t.getDate())} ${months[t.getMonth()]} ${t.getFullYear()}`
}

export function clock(at: string | Date, seconds = true): string {
  const t = new Date(at)
  return `${two(t.getHours())}:${two(t.getMinutes())}${seconds ? ':' + two(t.getSeconds()) : ''}`
}

export function when(at?: string | null): string {
  if (!at) return 'never'
  const t = new Date(at)
  const today = new Date().toDateString() === t.toDateString()
  return `${today ? 'today' : day(t)}, ${clock(t, false)} ${zone(t)}`
}

// ago is an age in a few words.
export function ago(at: string, now = Date.now()): string {
  const s = Math.max(0, (now - new Date(at).getTime()) / 1000)
  if (s < 60) return 'just now'
  if (s < 5400) return say('{1} min ago', Math.round(s / 60))
  if (s < 129600) return say('{1} h ago', Math.round(s / 3600))
  return say('{1} days ago', Math.round(s / 86400))
}

export function kib(bytes: number): string {
  return `${grouped(Math.round(bytes / 1024))} KiB`
}

export function grouped(n: number): string {
  return String(n).replace(/\B(?=(\d{3})+$)/g, '\u202f')
}

export function hex(address: number): string {
  return '0x' + address.toString(16).toUpperCase().padStart(6, '0')
}

// minutes writes seconds as m:ss.
export function minutes(seconds: number): string {
  const s = Math.max(0, Math.ceil(seconds))
  return `${Math.floor(s / 60)}:${two(s % 60)}`
}

export function shortDigest(d: string): string {
  return d.length === 64 ? `${d.slice(0, 4)} ${d.slice(4, 8)} … ${d.slice(60)}` : d
}

export { answers, channels, codeStands, conditions, formats, jobStands, linkKinds, needStates, outcomes, proofs as hows, questions, seats, sources, standings, tests, turns, verdicts } from './api/names'

export const factNames: Record<string, string> = {
  model: 'Model',
  revision: 'Revision',
  serial: 'Serial',
  region: 'Region',
  running: 'Runs',
  chip: 'Chip id',
  loader: 'Loader',
  memory: 'Memory',
  assembly: 'In vehicle',
  'version-unread': 'Version not read, because',
}

export function cap(s: string): string {
  return s ? s[0]!.toUpperCase() + s.slice(1) : s
}

// sentence begins with a capital letter and ends with a full stop.
export function sentence(s: string | undefined): string {
  return s ? cap(s) + (/[.!?]$/.test(s) ? '' : '.') : ''
}

// jobWords is why a run is done and for whom.
export function jobWords(r: Run): string {
  const why = listed(r.reason, r.asked && say('asked by {1}', r.asked))
  return r.job && !r.ownJob ? say('Job {1}: {2}', r.job, why) : r.reason ? why : ''
}

// seatOrder are the states of a tray's places, those that need somebody first.
export const seatOrder = ['waits', 'hands-off', 'at-work', 'half-done', 'failed', 'not-proven', 'refused', 'done', 'current', 'left-out', 'again', 'not-seen']

// seatWords are how many places of a tray stand how.
export function seatWords(count: Record<string, number>): string {
  const all = seatOrder.filter((s) => count[s]).map((s) => `${count[s]} ${seatNames[s]}`)
  return all.length ? `${all.join(', ')}.` : 'Nobody yet.'
}

/** lasts is a time of a rehearsal, which comes in nanoseconds. */
export function lasts(ns: number) {
  const s = ns / 1e9
  return s < 60 ? `${s.toFixed(1)} s` : `${Math.floor(s / 60)}:${String(Math.round(s % 60)).padStart(2, '0')} min`
}

// How many there are of something, as far as they were counted.
export function extent(n: number, more: boolean, one: string, many: string, over: string): string {
  return say(more ? over : n === 1 ? one : many, n.toLocaleString('en'))
}
