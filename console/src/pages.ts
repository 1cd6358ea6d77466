import { ref } from 'vue'

// usePages goes through a list that is read by key: what a page ends with is what the
// next one is asked for with, so one can go on, and back the way one came.
export function usePages(load: () => unknown) {
  const came = ref<string[]>([]) // what the pages before this one were asked for with
  const after = ref('')
  const next = ref('')
  const total = ref(0)
  const more = ref(false)
  const turn = () => {
    window.scrollTo({ top: 0 })
    load()
  }
  return {
    after,
    total,
    more,
    next,
    came,
    // take keeps what an answer says of its page
    take(p: { total: number; more: boolean; next: string }) {
      total.value = p.total
      more.value = p.more
      next.value = p.next
    },
    begin() {
      came.value = []
      after.value = ''
    },
    on() {
      came.value.push(after.value)
      after.value = next.value
      turn()
    },
    back() {
      after.value = came.value.pop() ?? ''
      turn()
    },
  }
}

export type Pages = ReturnType<typeof usePages>
