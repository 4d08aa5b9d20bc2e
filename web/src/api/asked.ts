import { onScopeDispose, ref, watch, type Ref } from 'vue'
import { Problem } from './client'
import { who } from './session'

/** Something that a page asked the service for, and how that stands. */
export interface Asked<T> {
  value: Ref<T | undefined>
  problem: Ref<string | undefined>
  /** True once an answer has taken longer than a moment. */
  slow: Ref<boolean>
  again: () => void
}

const slowAfter = 300

/** Asks anew whenever what the question depends on changes; late answers to
 * earlier questions are dropped. */
export function useAsked<T>(depends: () => unknown, ask: () => Promise<T> | undefined): Asked<T> {
  const value = ref<T>() as Ref<T | undefined>
  const problem = ref<string>()
  const slow = ref(false)
  let turn = 0

  async function again() {
    const mine = ++turn
    const asking = ask()
    if (!asking) {
      value.value = undefined
      return
    }
    const timer = setTimeout(() => (slow.value = mine === turn), slowAfter)
    try {
      const answer = await asking
      if (mine !== turn) return
      value.value = answer
      problem.value = undefined
    } catch (e) {
      if (mine !== turn) return
      value.value = undefined
      problem.value = e instanceof Problem ? e.message : 'Something went wrong in this page.'
      if (e instanceof Problem && e.status === 401) who.value = null
    } finally {
      clearTimeout(timer)
      if (mine === turn) slow.value = false
    }
  }

  watch(depends, again, { immediate: true })
  onScopeDispose(() => turn++)
  return { value, problem, slow, again }
}
