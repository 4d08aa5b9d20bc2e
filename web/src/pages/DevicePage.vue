<script setup lang="ts">
import { ref } from 'vue'
import { answered, api, Problem, type Schemas } from '../api/client'
import { ago } from '../when'

const code = ref('')
const device = ref<Schemas['Device']>()
const problem = ref<string>()
const stale = ref(false)
const done = ref<string>()
const busy = ref(false)

async function attempt(act: () => Promise<void>) {
  busy.value = true
  problem.value = undefined
  stale.value = false
  try {
    await act()
  } catch (e) {
    problem.value = e instanceof Problem ? e.message : 'That did not work.'
    stale.value = e instanceof Problem && e.status === 401
  } finally {
    busy.value = false
  }
}

const age = (at: string) => (ago(at) === 'just now' ? 'just now' : `${ago(at)} ago`)

const show = () => attempt(async () => {
  device.value = await answered(api.POST('/api/v1/devices/lookup', { body: { code: code.value } }))
})

const answer = (allowed: boolean) => attempt(async () => {
  await answered(api.POST('/api/v1/devices/answer', { body: { code: code.value, allowed } }))
  done.value = allowed ? 'The device is let in as you. It shows so within some seconds.' : 'The device was not let in.'
})
</script>

<template>
  <main class="mx-auto mt-[8vh] max-w-md px-4">
    <h1 class="text-2xl font-semibold">Let a device in</h1>
    <p v-if="done" role="status" class="mt-4 border-l-4 border-verdigris bg-raised px-3 py-2">{{ done }}</p>
    <template v-else-if="!device">
      <p class="mt-1 text-faded">Type the code that the device shows. Do so only for one that you have just asked yourself.</p>
      <form class="mt-6 grid gap-4" @submit.prevent="show">
        <label class="grid gap-1">Code
          <input v-model="code" class="field font-mono uppercase" name="code" autocomplete="off" required autofocus spellcheck="false" autocapitalize="characters" maxlength="12" placeholder="XXXX-XXXX" />
        </label>
        <p v-if="problem" role="alert" class="border-l-4 border-oxide bg-raised px-3 py-2">{{ problem }}</p>
        <button type="submit" class="act act-main justify-self-start" :disabled="busy">Look at the device</button>
      </form>
    </template>
    <template v-else>
      <p class="mt-1 text-faded">This device would be able to do everything that you can, for up to 30 days.</p>
      <dl class="mt-6 grid grid-cols-[auto_1fr] gap-x-6 gap-y-2">
        <dt class="text-faded">Calls itself</dt>
        <dd class="font-mono break-all">{{ device.host || '(nothing)' }}</dd>
        <dt class="text-faded">Asks from</dt>
        <dd class="font-mono">{{ device.network }}<span class="font-sans"> – {{ device.same ? 'the address that you have' : 'not the address that you have' }}</span></dd>
        <dt class="text-faded">Asked</dt>
        <dd>{{ age(device.askedAt) }}</dd>
      </dl>
      <p v-if="!device.same" class="mt-4 border-l-4 border-ochre bg-raised px-3 py-2">It is on another network than this browser. That is right for a server that you are signed in to, and wrong for somebody who sent you a code.</p>
      <p v-if="problem" role="alert" class="mt-4 border-l-4 border-oxide bg-raised px-3 py-2">{{ problem }}
        <RouterLink v-if="stale" class="underline" to="/sign-in?to=/device">Sign in again</RouterLink>
      </p>
      <div class="mt-6 flex gap-3">
        <button type="button" class="act act-main" :disabled="busy" @click="answer(true)">Let it in</button>
        <button type="button" class="act" :disabled="busy" @click="answer(false)">Do not</button>
      </div>
    </template>
  </main>
</template>
