<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { answered, api, Problem } from '../api/client'
import CopyButton from './CopyButton.vue'

const props = defineProps<{ project: string; environment: string; name: string }>()
const emit = defineEmits<{ read: [] }>()

const shownFor = 20
const value = ref<string>()
const left = ref(0)
const problem = ref<string>()
let timer: ReturnType<typeof setInterval> | undefined

async function obtain(): Promise<string> {
  const { project, environment, name } = props
  const answer = await answered(
    api.GET('/api/v1/projects/{project}/environments/{environment}/entries/{name}/value', { params: { path: { project, environment, name } } })
  )
  emit('read')
  return answer.encoding === 'base64' ? `(base64) ${answer.value}` : answer.value
}

async function show() {
  problem.value = undefined
  const asked = props.name
  try {
    const obtained = await obtain()
    if (asked !== props.name) return
    value.value = obtained
    left.value = shownFor
    timer = setInterval(() => --left.value <= 0 && hide(), 1000)
  } catch (e) {
    problem.value = e instanceof Problem ? e.message : 'The value could not be obtained.'
  }
}

function hide() {
  clearInterval(timer)
  value.value = undefined
}

// Somebody else may look at a window that its owner has left.
function hideUnseen() {
  if (document.hidden || !document.hasFocus()) hide()
}

onMounted(() => {
  window.addEventListener('blur', hideUnseen)
  document.addEventListener('visibilitychange', hideUnseen)
})
onBeforeUnmount(() => {
  hide()
  window.removeEventListener('blur', hideUnseen)
  document.removeEventListener('visibilitychange', hideUnseen)
})
watch(() => [props.project, props.environment, props.name], hide)
</script>

<template>
  <div v-if="value === undefined" class="flex flex-wrap items-center gap-2">
    <span class="text-faded">withheld</span>
    <button type="button" class="act" data-testid="show-value" @click="show">Show for {{ shownFor }} seconds</button>
    <CopyButton label="Copy without showing" :text="obtain" />
  </div>
  <div v-else>
    <output class="block border border-line bg-paper px-3 py-2 font-mono text-sm break-all whitespace-pre-wrap" data-testid="value">{{ value }}</output>
    <div class="mt-2 flex items-center gap-3">
      <button type="button" class="act" @click="hide">Hide</button>
      <span class="text-sm text-faded">hidden again in {{ left }} s</span>
    </div>
  </div>
  <p v-if="problem" role="alert" class="mt-2 text-oxide">{{ problem }}</p>
  <p class="mt-2 text-sm text-faded">Showing and copying leave a line in the trail.</p>
</template>
