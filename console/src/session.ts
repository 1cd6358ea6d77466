import { reactive } from 'vue'

import { api, type Person } from './api/client'

// Who is signed in. The session itself is a cookie that scripts cannot read.
export const session = reactive({
  person: null as Person | null,
  asked: false,

  async load(): Promise<boolean> {
    if (!this.asked) {
      const { data } = await api.GET('/api/session')
      this.person = data ?? null
      this.asked = !!data
    }
    return this.person !== null
  },

  async signOut() {
    await api.DELETE('/api/session')
    this.person = null
    this.asked = false
  },

  may(role: 'technician' | 'lead'): boolean {
    const rank = { viewer: 1, technician: 2, lead: 3 }
    return this.person !== null && rank[this.person.role] >= rank[role]
  },
})
