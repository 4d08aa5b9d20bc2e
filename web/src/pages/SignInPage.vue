<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answered, api, Problem } from '../api/client'
import { signIn } from '../api/session'
import ProductMark from '../components/ProductMark.vue'

const route = useRoute()
const router = useRouter()
const login = ref('')
const password = ref('')
const code = ref('')
const refusals: Record<string, string> = {
  refused: 'The provider does not let you in here. Ask an owner whether you were added with the account that you chose.',
  away: 'The provider does not answer. Try again in a moment.'
}
const problem = ref<string | undefined>(refusals[String(route.query.provider)])
const providers = ref<string[]>([])
void answered(api.GET('/api/v1/console/providers')).then((all) => (providers.value = all ?? []))
const busy = ref(false)

async function submit() {
  busy.value = true
  problem.value = undefined
  try {
    await signIn(login.value, password.value, code.value)
    const to = route.query.to
    // Only to a page of the console, never to another site.
    await router.replace(typeof to === 'string' && /^\/(?![/\\])/.test(to) ? to : '/')
  } catch (e) {
    problem.value = e instanceof Problem ? e.message : 'The sign-in did not work.'
  } finally {
    password.value = ''
    code.value = ''
    busy.value = false
  }
}
</script>

<template>
  <div class="mx-auto mt-[12vh] max-w-sm px-4">
    <h1 class="flex items-center gap-2 text-2xl font-semibold"><ProductMark />Adytum</h1>
    <p class="mt-1 text-faded">Sign in to see what is kept here.</p>
    <form class="mt-6 grid gap-4" @submit.prevent="submit">
      <label class="grid gap-1">Login
        <input v-model="login" class="field" name="username" autocomplete="username" required autofocus spellcheck="false" autocapitalize="none" />
      </label>
      <label class="grid gap-1">Password
        <input v-model="password" class="field" type="password" name="password" autocomplete="current-password" required />
      </label>
      <label class="grid gap-1">Code, if you have codes
        <input v-model="code" class="field" name="code" autocomplete="one-time-code" spellcheck="false" autocapitalize="none" />
      </label>
      <p v-if="problem" role="alert" class="border-l-4 border-oxide bg-raised px-3 py-2">{{ problem }}</p>
      <button type="submit" class="act act-main justify-self-start" :disabled="busy">{{ busy ? 'Signing in …' : 'Sign in' }}</button>
    </form>
    <div v-if="providers.length" class="mt-6 grid gap-3 border-t border-line pt-6">
      <a v-for="name in providers" :key="name" class="act justify-self-start" :href="`/api/v1/console/providers/${name}/begin?to=${encodeURIComponent(String(route.query.to ?? '/'))}`">Sign in through {{ name }}</a>
    </div>
  </div>
</template>
