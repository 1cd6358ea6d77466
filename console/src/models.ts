// All models, for a list to choose from: they come a page at a time.
import { api } from './api/client'
import type { components } from './api/schema'

export type Model = components['schemas']['Model']

export async function allModels(): Promise<Model[]> {
  const all: Model[] = []
  for (let after: string | undefined = ''; after !== undefined; ) {
    const { data }: { data?: components['schemas']['Models'] } = await api.GET('/api/models', { params: { query: { after, size: 200 } } })
    all.push(...(data?.models ?? []))
    after = data?.next || undefined
  }
  return all
}
