// Whole lists, to choose from: they come a page at a time.
import { api } from './api/client'
import type { components } from './api/schema'

export type Model = components['schemas']['Model']
export type Site = components['schemas']['Site']

// whole reads a list page after page, and throws what went wrong.
async function whole<D extends { next: string }, T>(page: (query: { after: string; size?: number }) => Promise<{ data?: D; error?: unknown }>, rows: (d: D) => T[]): Promise<T[]> {
  const all: T[] = []
  for (let after = ''; ; ) {
    const { data, error } = await page({ after })
    if (!data) throw error
    all.push(...rows(data))
    after = data.next
    if (!after) return all
  }
}

export const allModels = () => whole((query) => api.GET('/api/models', { params: { query: { ...query, size: 200 } } }), (d) => d.models).catch((): Model[] => [])
export const allSites = () => whole((query) => api.GET('/api/sites', { params: { query: { ...query, size: 200 } } }), (d) => d.sites).catch((): Site[] => [])
export const allLinks = () => whole((query) => api.GET('/api/links', { params: { query } }), (d) => d.links)
export const allAdapters = () => whole((query) => api.GET('/api/adapters', { params: { query } }), (d) => d.adapters)
export const allGear = () => whole((query) => api.GET('/api/gear', { params: { query } }), (d) => d.gear)
export const allBenches = () => whole((query) => api.GET('/api/benches', { params: { query } }), (d) => d.benches)
export const allKeys = () => whole((query) => api.GET('/api/keys', { params: { query } }), (d) => d.keys)
export const allPeople = () => whole((query) => api.GET('/api/people', { params: { query } }), (d) => d.people)
export const allBulletins = (model: string) => whole((query) => api.GET('/api/bulletins', { params: { query: { ...query, model } } }), (d) => d.bulletins)
export const allTargets = () => whole((query) => api.GET('/api/targets', { params: { query } }), (d) => d.targets)

// linkAt is the link of that name, as BENCH/NAME.
export async function linkAt(at: string) {
  return (await api.GET('/api/links', { params: { query: { at } } })).data?.links[0] ?? null
}
