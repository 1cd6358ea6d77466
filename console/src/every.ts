import { onMounted, onUnmounted } from 'vue'

// every calls load when the page is there, and again every so many milliseconds
// until it is left.
export function every(ms: number, load: () => unknown) {
  let timer = 0
  onMounted(() => {
    load()
    timer = window.setInterval(load, ms)
  })
  onUnmounted(() => clearInterval(timer))
}
