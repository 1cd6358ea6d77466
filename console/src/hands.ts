// Words for the work of hands, shared by pages.
import type { Wiring } from './api/client'

export { session } from './session'

// coloursOf is the colour of every wire as it stands on a drawing: what somebody
// said of this lead, else the usual one; by the unit's pin.
export function coloursOf(wiring: Wiring | undefined, said: Record<string, string>): Record<string, string> {
  return Object.fromEntries((wiring?.wires ?? []).map((w) => [String(w.unit), (said[String(w.unit)] ?? w.colour ?? '').trim()]).filter(([, c]) => c))
}

export const stages = [
  { at: 'hazard', title: 'Hazards: confirm each' },
  { at: 'tool', title: 'Take along' },
  { at: 'prepare', title: 'Prepare' },
  { at: 'found', title: 'As found' },
  { at: 'connect', title: 'Connect' },
  { at: 'power', title: 'Power and hands, in this order' },
  { at: 'left', title: 'After the write' },
]

export const backs: Record<string, string> = {
  full: 'Full backup, before the first erase',
  settings: 'Its settings, read before and put back after',
  image: 'No backup; the image of the version that it runs',
  none: 'None: nothing brings it back',
}

export const classes: Record<string, string> = {
  sound: 'sound',
  silent: 'nothing comes at all',
  'held-low': 'the line is held low',
  deaf: 'it speaks, and does not hear',
  echo: 'only our own echo',
  setting: 'it speaks with another line setting',
  rubbish: 'bytes that mean nothing',
  program: 'its program answers, not its loader',
  'other-loader': 'another loader or model answers',
  lossy: 'answers get lost',
  late: 'answers come late',
  restarts: 'it starts over and over',
}
