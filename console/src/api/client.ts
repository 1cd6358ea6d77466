// Calls of the API, with types made from docs/openapi.json.
import createClient from 'openapi-fetch'

import type { components, paths } from './schema'

// Whoever calls too often is told after how many seconds to call again (RFC 6585, 4); nothing
// of the call was read. A wait that nobody notices is waited.
const mostWaits = 3
const longestWait = 5
async function patient(request: Request): Promise<Response> {
  for (let n = 0; ; n++) {
    const again = request.clone()
    const answer = await fetch(request)
    const seconds = Number(answer.headers.get('Retry-After') ?? longestWait + 1)
    if (answer.status !== 429 || seconds > longestWait || n === mostWaits) return answer
    await new Promise((done) => setTimeout(done, 1000 * seconds))
    request = again
  }
}

export const api = createClient<paths>({ baseUrl: '/', fetch: patient })

// Pages ask for the same again and again: what they have is asked for with its tag, and
// the service says only that it is still so (RFC 9110, 15.4.5). The newest answers are kept.
const mostKept = 40
const kept = new Map<string, { tag: string; body: string }>()
api.use({
  onRequest({ request }) {
    const has = request.method === 'GET' ? kept.get(request.url) : undefined
    if (has) request.headers.set('If-None-Match', has.tag)
    return request
  },
  async onResponse({ request, response }) {
    if (request.method !== 'GET') return response
    if (response.status === 304) {
      const has = kept.get(request.url)
      return new Response(has?.body ?? 'null', { status: 200, headers: { 'Content-Type': 'application/json' } })
    }
    const tag = response.headers.get('ETag')
    if (!tag || response.status !== 200) return response
    const body = await response.clone().text()
    kept.delete(request.url)
    kept.set(request.url, { tag, body })
    const oldest = kept.keys().next().value
    if (kept.size > mostKept && oldest !== undefined) kept.delete(oldest)
    return response
  },
})

type Schemas = components['schemas']
export type Person = Schemas['Person']
export type Problem = Schemas['Problem']
export type Member = Schemas['Member']
export type Access = Schemas['Access']
export type AuditEntry = Schemas['AuditEntry']
export type AuditPart = Schemas['AuditPart']
export type Waiting = Schemas['Waiting']
export type Unit = Schemas['Unit']
export type UnitPage = Schemas['UnitPage']
export type Link = Schemas['Link']
export type Bench = Schemas['Bench']
export type Identity = Schemas['Identity']
export type Fit = Schemas['Fit']
export type Verdict = Schemas['FitVerdict']
export type Run = Schemas['Run']
export type Progress = Schemas['Progress']
export type View = Schemas['RunView']
export type RunEvent = Schemas['Told']
export type Sector = Schemas['Sector']
export type Strip = Schemas['Strip']
export type History = Schemas['History']
export type Entry = Schemas['Entry']
export type Backup = Schemas['Backup']
export type Model = Schemas['Model']
export type ModelPage = Schemas['ModelPage']
export type Scanned = Schemas['Scanned']
export type Bulletin = Schemas['Bulletin']
export type Module = Schemas['Module']
export type Round = Schemas['Round']
export type Tray = Schemas['Tray']
export type TrayPlace = Schemas['TrayPlace']
export type TrayRow = Schemas['TrayRow']
export type RoundRow = Schemas['RoundRow']
export type CodeLine = Schemas['RoundLine']
export type Tried = Schemas['Tried']
export type Release = Schemas['Release']
export type ReleasePage = Schemas['ReleasePage']
export type Matrix = Schemas['Matrix']
export type Cell = Schemas['FitCell']
export type Need = Schemas['FitNeed']
export type Have = Schemas['FitHave']
export type Question = Schemas['FitQuestion']
export type Inspection = Schemas['Inspection']
export type Difference = Schemas['ImageDifference']
export type Target = Schemas['Target']
export type Key = Schemas['Key']
export type Region = Schemas['Region']
export type Stroke = Schemas['ModelStroke']
export type Card = Schemas['Card']
export type Asked = Schemas['Asked']
export type Check = Schemas['Check']
export type Adapter = Schemas['Adapter']
export type Item = Schemas['ModelItem']
export type Wiring = Schemas['ModelWiring']
export type Supply = Schemas['ModelSupply']
export type Pin = Schemas['ModelPin']
export type Port = Schemas['PortsPort']
export type Vehicle = Schemas['Vehicle']
export type Heard = Schemas['Heard']
export type Side = Schemas['Sides']
export type Answered = Schemas['Answered']
export type PartView = Schemas['RunPartView']
export type Obligation = Schemas['RunObligation']
export type Bar = Schemas['AdmitBar']
export type Step = Schemas['Step']
export type Report = Schemas['Report']
export type Job = Schemas['Job']
export type JobPage = Schemas['JobPage']
export type Site = Schemas['Site']
export type Setup = Schemas['Setup']
export type Trouble = Schemas['Trouble']
export type SecondPage = Schemas['SecondPage']
export type Seconds = Schemas['Seconds']
export type Retention = Schemas['Retention']
export type Quotas = Schemas['Quotas']
export type Rehearsal = Schemas['Rehearsal']
export type NewAnswer = Schemas['NewAnswer']
export type Traces = Schemas['Traces']
export type HandOver = Schemas['HandOver']
export type Offer = Schemas['Offer']
export type Owed = Schemas['Owed']
export type UnitSetting = Schemas['UnitSetting']
export type Profile = Schemas['Profile']
export type OpenTest = Schemas['OpenTest']
export type Today = Schemas['Today']
export type Admission = Schemas['Admission']

// send puts a file's bytes into a call whose answer is JSON.
export async function send<T>(path: string, body: Blob | ArrayBuffer, method = 'POST'): Promise<T> {
  const r = await patient(new Request(path, { method, body, headers: { 'Content-Type': 'application/octet-stream' } }))
  const answer = await r.json()
  if (!r.ok) throw answer
  return answer as T
}

// problem makes three lines of anything that went wrong: what happened, what
// state the unit is in, what to do next.
export function problem(e: unknown): Problem {
  if (e && typeof e === 'object' && 'kind' in e && 'detail' in e) return e as Problem
  return {
    type: 'about:blank',
    title: 'Not answering',
    status: 0,
    kind: 'not-answering',
    detail: 'The service does not answer.',
    next: 'A run at a bench goes on. Look whether the service is up, then load this page again.',
  }
}
