import { onMounted, onUnmounted } from 'vue'

// every calls load when the page is there, and again every so many milliseconds
// until it is left; one at a time: while an answer is waited for, nothing is asked.
export function every(ms: number, load: () => unknown) {
  let timer = 0
  let asking = false
  async function once() {
    if (asking) return
    asking = true
    try {
      await load()
    } finally {
      asking = false
    }
  }
  onMounted(() => {
    once()
    timer = window.setInterval(once, ms)
  })
  onUnmounted(() => clearInterval(timer))
}
