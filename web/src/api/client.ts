import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']

/** The service that this console came from; the session is a cookie. */
export const api = createClient<paths>({ credentials: 'same-origin' })

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
