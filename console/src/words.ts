// Words and figures for people. Every number has its unit, every time its zone.
import type { Entry, RunEvent, Unit } from './api/client'

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
  if (s < 5400) return `${Math.round(s / 60)} min ago`
  if (s < 129600) return `${Math.round(s / 3600)} h ago`
  return `${Math.round(s / 86400)} days ago`
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

export const outcomes: Record<string, string> = {
  done: 'done',
  'nothing-to-do': 'nothing to do',
  refused: 'refused',
  failed: 'failed',
  interrupted: 'interrupted',
  waiting: 'waiting',
  abandoned: 'given up',
  'not-proven': 'not proven',
  '': 'at work',
}

export const conditions: Record<string, string> = {
  untouched: 'untouched',
  unknown: 'unknown',
  'partly written': 'partly written',
  written: 'written',
  verified: 'verified',
  proven: 'proven',
}

export const verdicts: Record<string, string> = {
  fits: 'fits',
  'does-not-fit': 'does not fit',
  'cannot-tell': 'cannot tell',
}

export const hows: Record<string, string> = {
  'unit-digest': "by the unit's own digest",
  'read-twice': 'read twice, both alike',
  'read-back': 'by reading it back',
  transfer: 'by the checks of the transfer and the version that it tells',
}

export const factNames: Record<string, string> = {
  model: 'Model',
  revision: 'Revision',
  serial: 'Serial',
  region: 'Region',
  running: 'Runs',
  chip: 'Chip id',
  loader: 'Loader',
  memory: 'Memory',
}

export const sources: Record<string, string> = {
  wire: 'read on the wire',
  label: 'on the label',
  person: 'said by a person',
  record: 'from the record',
  sheet: 'follows from the model sheet',
}

export const channels: Record<string, string> = { stable: 'stable', candidate: 'candidate, on trial' }

export const formats: Record<string, string> = {
  'intel-hex': 'Intel HEX',
  's-record': 'S-record',
  elf: 'ELF',
  raw: 'raw binary',
  'ti-txt': 'TI-TXT',
  uf2: 'UF2',
  dfu: 'USB DFU',
}

export const needStates: Record<string, string> = {
  ready: 'ready',
  missing: 'missing',
  'too-old': 'too old',
  expired: 'run out',
  'runs-out': 'ready, runs out soon',
  'used-up': 'used up',
  'cannot-tell': 'cannot tell',
}


// event tells an event in a few words; empty for what says nothing to a person.
export function event(e: RunEvent): string {
  const b = (e.body ?? {}) as Record<string, unknown>
  switch (e.kind) {
    case 'opened':
      return 'run opened'
    case 'taken-up':
      return 'taken up again'
    case 'identified':
      return 'identified on the wire'
    case 'judged':
      return 'fit judged'
    case 'backed-up':
      return 'memory read'
    case 'waiting':
      return 'waits for the service'
    case 'carded':
      return b.procedure ? `procedure ${b.procedure} laid out` : ''
    case 'answered':
      return b.item ? `${String(b.item).replaceAll('-', ' ')}: ${b.value}` : 'the unit answered'
    case 'proved':
      return `link proved: ${Number(b.asked) - Number(b.lost)} of ${b.asked} answers`
    case 'waived':
      return `gate ${b.gate} passed by a named person`
    case 'settings':
      return `${(b.settings as unknown[])?.length ?? 0} settings read and kept`
    case 'settled':
      return `${b.back} settings put back${(b.differ as string[])?.length ? `, not taken: ${(b.differ as string[]).join(', ')}` : ''}`
    case 'locked':
      return 'memory locked again'
    case 'stored':
      return 'backup stored by the service'
    case 'covered':
      return 'an earlier backup stands for this one'
    case 'planned':
      return `planned: ${b.actions} actions, ${kib(Number(b.bytes))}`
    case 'same-unit':
      return 'identified again: same unit'
    case 'surveyed':
      return 'memory read after the interruption'
    case 'done':
      return b.path ? `file ${b.path} ${b.erase ? 'removed' : 'written'}` : b.last ? `sector ${b.sector} written` : ''
    case 'verified':
      return `${b.sectors} pieces verified`
    case 'started':
      return b.version ? `program ${b.version} started` : 'loader left'
    case 'laid-aside':
      return `laid aside: ${b.place}, with ${b.holder}`
    case 'stop-ordered':
      return 'stop ordered'
    case 'stopped':
      return 'stopped, nothing under way'
    case 'fault':
      return `fault: ${b.kind}`.replaceAll('-', ' ')
    case 'closed':
      return `closed: ${outcomes[String(b.outcome)]}`
  }
  return ''
}

// entry gives a history entry its heading.
export function entry(e: Entry): string {
  const to = e.to || 'an unknown version'
  switch (e.kind) {
    case 'entered':
      return 'Entered the register'
    case 'flash':
      if (e.outcome === 'done') return `Flashed ${to}`
      if (e.outcome === 'not-proven') return `Flashed ${e.to || 'a release'}, not proven`
      if (e.outcome === 'nothing-to-do') return `Nothing to do, ran ${e.from} already`
      return `${cap(outcomes[e.outcome] ?? e.outcome)}: flash`
    case 'restore':
      return e.outcome === 'done' ? `Restored, runs ${to}` : `${cap(outcomes[e.outcome] ?? e.outcome)}: restore`
    case 'backup':
      return e.outcome === 'done' ? 'Backed up' : `${cap(outcomes[e.outcome] ?? e.outcome)}: backup`
    case 'refused':
      return 'Refused before a run began'
    case 'late':
      return 'Came too late, kept as evidence'
    case 'claim-released':
      return 'Run given up'
  }
  return cap(e.kind.replaceAll('-', ' '))
}

export function cap(s: string): string {
  return s ? s[0]!.toUpperCase() + s.slice(1) : s
}

// sentence begins with a capital letter and ends with a full stop.
export function sentence(s: string | undefined): string {
  return s ? cap(s) + (/[.!?]$/.test(s) ? '' : '.') : ''
}

// standing is the state of a unit as a sentence.
export function standing(u: Unit, recommended?: string): string {
  if (u.run) return u.state === 'half-done' ? 'Partly written, and its run is open.' : 'A run is open on it.'
  if (u.state === 'half-done') return 'Half done. Do not put it back to work.'
  if (u.state === 'not-proven') return 'Written, but not proven. See that it works before it goes back.'
  if (!u.running) return 'Not read yet.'
  if (!recommended) return 'Nothing fits for certain yet.'
  if (recommended === u.running) return 'Up to date.'
  return 'Runs another release than the team uses.'
}
