import { ref } from 'vue'
import { answered, api, Problem, type Schemas } from './client'

/** Who is signed in; undefined while that is not known, null for nobody. */
export const who = ref<Schemas['Who'] | null>()

/** The projects that the person may know of. */
export const projects = ref<Schemas['Project'][]>([])

export async function recall(): Promise<void> {
  try {
    who.value = await answered(api.GET('/api/v1/sessions/current'))
    projects.value = (await answered(api.GET('/api/v1/projects'))) ?? []
  } catch (problem) {
    if (!(problem instanceof Problem) || problem.status !== 401) throw problem
    who.value = null
  }
}

export async function signIn(login: string, password: string, code = ''): Promise<void> {
  await answered(api.POST('/api/v1/console/session', { body: { login, password, code } }))
  await recall()
}

export async function signOut(): Promise<void> {
  await answered(api.DELETE('/api/v1/console/session'))
  who.value = null
  projects.value = []
}

/** Whether the person was granted a role with this verb somewhere. */
export function mayAudit(): boolean {
  return who.value?.grants?.some((g) => g.role === 'owner' || g.role === 'auditor') ?? false
}
