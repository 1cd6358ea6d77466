// Whole lists, to choose from: they come a page at a time.
import { api } from './api/client'
import type { components } from './api/schema'

export type Model = components['schemas']['Model']
export type Site = components['schemas']['Site']

async function all<T>(page: (after: string) => Promise<{ rows: T[]; next: string } | undefined>): Promise<T[]> {
  const rows: T[] = []
  for (let after = ''; ; ) {
    const came = await page(after)
    rows.push(...(came?.rows ?? []))
    after = came?.next ?? ''
    if (!after) return rows
  }
}

export function allModels(): Promise<Model[]> {
  return all(async (after) => {
    const { data } = await api.GET('/api/models', { params: { query: { after, size: 200 } } })
    return data && { rows: data.models, next: data.next }
  })
}

export function allSites(): Promise<Site[]> {
  return all(async (after) => {
    const { data } = await api.GET('/api/sites', { params: { query: { after, size: 200 } } })
    return data && { rows: data.sites, next: data.next }
  })
}
