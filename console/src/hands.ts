// Words for the work of hands, shared by pages.
import type { Wiring } from './api/client'
import { stages as stageNames } from './api/names'
import { cap } from './words'

export { classes, waysBack as backs } from './api/names'
export { session } from './session'

// coloursOf is the colour of every wire as it stands on a drawing: what somebody
// said of this lead, else the usual one; by the unit's pin.
export function coloursOf(wiring: Wiring | undefined, said: Record<string, string>): Record<string, string> {
  return Object.fromEntries((wiring?.wires ?? []).map((w) => [String(w.unit), (said[String(w.unit)] ?? w.colour ?? '').trim()]).filter(([, c]) => c))
}

// stages are those of a card, in their order.
export const stages = ['hazard', 'tool', 'prepare', 'found', 'connect', 'power', 'left'].map((at) => ({ at, title: cap(stageNames[at]!) }))
