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

// The following throw what went wrong.

export function allLinks() {
  return all(async (after) => {
    const { data, error } = await api.GET('/api/links', { params: { query: { after } } })
    if (error) throw error
    return { rows: data.links, next: data.next }
  })
}

export function allAdapters() {
  return all(async (after) => {
    const { data, error } = await api.GET('/api/adapters', { params: { query: { after } } })
    if (error) throw error
    return { rows: data.adapters, next: data.next }
  })
}

export function allGear() {
  return all(async (after) => {
    const { data, error } = await api.GET('/api/gear', { params: { query: { after } } })
    if (error) throw error
    return { rows: data.gear, next: data.next }
  })
}

export function allTargets() {
  return all(async (after) => {
    const { data, error } = await api.GET('/api/targets', { params: { query: { after } } })
    if (error) throw error
    return { rows: data.targets, next: data.next }
  })
}

// linkAt is the link of that name, as BENCH/NAME.
export async function linkAt(at: string) {
  return (await api.GET('/api/links', { params: { query: { at } } })).data?.links[0] ?? null
}
