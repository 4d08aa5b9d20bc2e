<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answered, api, Problem } from '../api/client'
import { signIn } from '../api/session'
import ProductMark from '../components/ProductMark.vue'

const route = useRoute()
const router = useRouter()
// What stands behind the # is never sent to a server; it leaves the address at once.
const invitation = ref(route.hash.replace(/^#/, ''))
const password = ref('')
const again = ref('')
const problem = ref<string>()
const busy = ref(false)
if (route.hash) void router.replace({ path: '/welcome' })

async function submit() {
  problem.value = undefined
  if (password.value !== again.value) {
    problem.value = 'The two passwords are not the same.'
    return
  }
  busy.value = true
  try {
    const person = await answered(api.POST('/api/v1/invitations/acceptance', { body: { invitation: invitation.value.trim(), password: password.value } }))
    await signIn(person.login, password.value)
    await router.replace('/')
  } catch (e) {
    problem.value = e instanceof Problem ? e.message : 'The password could not be set.'
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="mx-auto mt-[12vh] max-w-sm px-4">
    <h1 class="flex items-center gap-2 text-2xl font-semibold"><ProductMark />Adytum</h1>
    <p class="mt-1 text-faded">You were invited. Choose a password of 15 characters or more; several words make a good one.</p>
    <form class="mt-6 grid gap-4" @submit.prevent="submit">
      <label class="grid gap-1">Invitation
        <input v-model="invitation" class="field" type="password" name="invitation" autocomplete="off" required spellcheck="false" />
      </label>
      <label class="grid gap-1">New password
        <input v-model="password" class="field" type="password" name="new-password" autocomplete="new-password" required minlength="15" />
      </label>
      <label class="grid gap-1">New password once more
        <input v-model="again" class="field" type="password" name="again" autocomplete="new-password" required minlength="15" />
      </label>
      <p v-if="problem" role="alert" class="border-l-4 border-oxide bg-raised px-3 py-2">{{ problem }}</p>
      <button type="submit" class="act act-main justify-self-start" :disabled="busy">{{ busy ? 'One moment …' : 'Set the password and sign in' }}</button>
    </form>
  </div>
</template>
