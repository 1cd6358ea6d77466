import type { Run, View } from '../api/client'
import { hows, kib, say, sayOf, verdicts } from '../words'

export interface Stop {
  key: string
  word: string
  fact: string
  hand?: boolean
  state: 'done' | 'now' | 'ahead'
}

// Where each step of a run stands on the line.
export const place: Record<string, number> = {
  identify: 0,
  fit: 1,
  card: 2,
  hands: 2,
  prove: 3,
  lock: 5,
  backup: 3,
  store: 3,
  'settings-read': 3,
  wanted: 3,
  ask: 3,
  plan: 3,
  'same-unit': 4,
  survey: 4,
  flash: 4,
  verify: 5,
  settings: 6,
  start: 6,
  'close-out': 6,
  ended: 7,
}

export const words = ['Identify', 'Fit', 'Card', 'Backup', 'Flash', 'Verify', 'Close-out']

// stopsOf lays a run on the line of stops. A paused run stands where it was.
export function stopsOf(run: Run, view: View, step: string): Stop[] {
  const after = view.item?.at === 'left' // a person's turn at the end
  const now = after ? 6 : (place[step] ?? 0)
  const carded = run.answers.length > 0 && !['hands', 'card'].includes(step)
  // Where hands come first, the unit is asked only afterwards.
  const told = run.progress.events.map((e) => e.kind)
  const later = now === 2 ? [!told.includes('identified'), !told.includes('judged')] : []
  const left = run.kind === 'backup' ? [1, 2, 4, 5] : run.kind === 'settings' ? [1, 4, 5] : run.kind === 'restore' ? [1] : []
  const facts = [
    run.from ? say('rev {1}, runs {2}', run.unit.revision || '?', run.from) : later[0] ? 'once it has power' : 'by itself',
    run.verdict ? `${run.version} ${verdicts[run.verdict.verdict]}` : later[1] ? 'judged again then' : 'by itself',
    view.hands && !after && step !== 'ask' ? say('your turn, {1} of {2}', view.turn, view.turns) : run.answers.length ? sayOf('{1} item done', '{1} items done', run.answers.length) : say('said yes: {1}', run.by),
    step === 'ask' ? say('settings, your turn {1} of {2}', view.turn, view.turns) : step === 'backup' && view.total ? say('{1} of {2}', kib(view.done), kib(view.total)) : backupFact(run),
    view.changes ? say('{1} of {2} sectors', view.right, view.changes) : 'by itself',
    step === 'verify' && view.total ? say('{1} of {2}', kib(view.done), kib(view.total)) : run.record?.verified ? (hows[run.record.verified] ?? '') : 'by itself',
    run.state === 'closed' ? 'in the history' : step === 'settings' ? 'settings' : after ? say('your turn, {1} of {2}', view.turn, view.turns) : 'by itself',
  ]
  const over = run.state === 'closed'
  return words
    .map((word, i): Stop => {
      const state = (i < now && !later[i]) || (i === 2 && carded) ? 'done' : i === now ? 'now' : 'ahead'
      const fact = facts[i] ?? ''
      return { key: word, word, fact: fact !== 'by itself' ? fact : state === 'done' ? 'done' : over ? 'not needed' : fact, hand: i === 2 || (i === 6 && after) || (i === 3 && step === 'ask'), state }
    })
    .filter((_, i) => !left.includes(i))
}

function backupFact(run: Run): string {
  if (run.backupHow?.startsWith('run ')) return 'from before'
  if (run.kind === 'settings') return run.setup ? say('{1} settings in all', run.setup.lines.length) : 'settings'
  return run.backupId ? 'full, stored' : run.backup ? 'read, to be stored' : 'by itself'
}

// ride is the share of the present step that is done.
export function rideOf(view: View): number {
  return view.total > 0 ? view.done / view.total : 0
}
