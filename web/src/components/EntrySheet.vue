<script setup lang="ts">
import { nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { answered, api } from '../api/client'
import { useAsked } from '../api/asked'
import { at } from '../when'
import AnswerState from './AnswerState.vue'
import CopyButton from './CopyButton.vue'
import WithheldValue from './WithheldValue.vue'

const props = defineProps<{ project: string; environment: string; name: string }>()
const emit = defineEmits<{ close: [] }>()

const path = () => ({ params: { path: { project: props.project, environment: props.environment, name: props.name } } })
const place = () => [props.project, props.environment, props.name]
const entry = useAsked(place, () => answered(api.GET('/api/v1/projects/{project}/environments/{environment}/entries/{name}', path())))
const history = useAsked(place, () => answered(api.GET('/api/v1/projects/{project}/environments/{environment}/entries/{name}/versions', path())))
const heading = ref<HTMLElement>()

function key(e: KeyboardEvent) {
  if (e.key === 'Escape') emit('close')
}
onMounted(() => window.addEventListener('keydown', key))
onBeforeUnmount(() => window.removeEventListener('keydown', key))
watch(place, () => nextTick(() => heading.value?.focus()), { immediate: true })
</script>

<template>
  <aside class="border border-line bg-raised p-5" aria-labelledby="sheet-name" data-testid="sheet">
    <div class="flex items-start justify-between gap-3">
      <h2 id="sheet-name" ref="heading" tabindex="-1" class="font-mono text-lg font-semibold break-all outline-none">{{ name }}</h2>
      <button type="button" class="act" aria-label="Close the sheet" @click="emit('close')">Close</button>
    </div>
    <AnswerState :problem="entry.problem.value" :slow="entry.slow.value" @again="entry.again" />
    <template v-if="entry.value.value">
      <p class="text-faded">
        {{ entry.value.value.kind }} in {{ project }} / {{ environment }}<template v-if="entry.value.value.origin !== 'here'">, set in {{ entry.value.value.layer }}</template>
      </p>
      <section class="mt-5">
        <h3 class="heading">Reference</h3>
        <p class="mt-1 flex flex-wrap items-center gap-2">
          <code class="font-mono break-all" data-testid="reference">{{ entry.value.value.reference }}</code>
          <CopyButton label="Copy" :text="() => entry.value.value!.reference" />
        </p>
        <p class="mt-1 text-sm text-faded">From elsewhere: <code class="font-mono break-all">{{ entry.value.value.absolute }}</code></p>
      </section>
      <section class="mt-5">
        <h3 class="heading mb-1">Value</h3>
        <WithheldValue v-if="entry.value.value.kind === 'secret'" :project="project" :environment="environment" :name="name" />
        <code v-else-if="entry.value.value.kind === 'setting'" class="font-mono break-all whitespace-pre-wrap">{{ entry.value.value.setting || '(empty)' }}</code>
        <span v-else class="text-faded">set to nothing: hides what lies farther away</span>
      </section>
    </template>
    <section v-if="history.value.value" class="mt-5">
      <h3 class="heading">Versions</h3>
      <ol class="mt-1">
        <li v-for="v in history.value.value.versions" :key="v.version" class="flex gap-3 border-t border-line py-2">
          <span class="w-6 shrink-0 text-right font-mono">{{ v.version }}</span>
          <span class="min-w-0">
            <span :class="v.state === 'active' ? 'font-semibold text-verdigris' : 'text-faded'">{{ v.state }}</span>, {{ v.kind }}, {{ at(v.at) }} by {{ v.author }}
            <span v-if="v.reason" class="block text-faded">{{ v.reason }}</span>
            <code v-if="v.kind === 'setting'" class="block font-mono text-sm break-all">{{ v.setting }}</code>
          </span>
        </li>
      </ol>
    </section>
  </aside>
</template>
