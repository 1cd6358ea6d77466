// Of questions that are asked one after another, only the answer to the newest is shown:
// one that comes late is about something else.
export function newest(): () => () => boolean {
  let asked = 0
  return () => {
    const mine = ++asked
    return () => mine === asked
  }
}
