import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']

/** The service that this console came from; the session is a cookie. */
export const api = createClient<paths>({ credentials: 'same-origin' })

/** Set, and no secret, where the sign-in can go on without the person. */
const goesOn = () => document.cookie.split('; ').some((c) => c.startsWith('adytum_goes_on='))

let going: Promise<boolean> | undefined

/** Goes on with the sign-in, once for however many requests found it ended. */
function goOn(): Promise<boolean> {
  going ??= fetch('/api/v1/console/session/refresh', { method: 'POST', credentials: 'same-origin' })
    .then((answer) => answer.ok)
    .catch(() => false)
    .finally(() => setTimeout(() => (going = undefined), 1000))
  return going
}

const unsent = new WeakMap<Request, Request>()

api.use({
  onRequest({ request }) {
    if (goesOn()) unsent.set(request, request.clone())
    return request
  },
  async onResponse({ request, response }) {
    const again = unsent.get(request)
    if (response.status === 401 && again && (await goOn())) return fetch(again)
    return response
  }
})

/** A problem that the service answered with, or the lack of an answer. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string
  ) {
    super(message)
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** Takes the data out of an answer, or throws the Problem that it is. */
export async function answered<T>(asked: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await asked
  } catch {
    throw new Problem(0, 'The service does not answer. It may be starting, or the connection is lost.')
  }
  if (answer.response.ok) return answer.data as T
  const detail = (answer.error as { detail?: string } | undefined)?.detail
  throw new Problem(answer.response.status, sentence(detail ?? `The service answered ${answer.response.status}`))
}

function sentence(text: string): string {
  const capital = text.charAt(0).toUpperCase() + text.slice(1)
  return /[.!?]$/.test(capital) ? capital : capital + '.'
}
