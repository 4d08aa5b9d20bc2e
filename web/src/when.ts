const full = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'short' })
const seconds = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'medium' })

/** A moment in the reader's own time. */
export const at = (iso: string): string => full.format(new Date(iso))

/** A moment to the second. */
export const exactly = (iso: string): string => seconds.format(new Date(iso))

/** How long ago a moment was, in one unit. */
export function ago(iso: string): string {
  const minutes = Math.floor((Date.now() - new Date(iso).getTime()) / 60000)
  if (minutes < 1) return 'just now'
  if (minutes < 60) return `${minutes} min`
  if (minutes < 48 * 60) return `${Math.floor(minutes / 60)} h`
  return `${Math.floor(minutes / 1440)} d`
}
