<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useAsked } from '../api/asked'
import { answered, api } from '../api/client'
import AnswerState from '../components/AnswerState.vue'
import EntriesTable from '../components/EntriesTable.vue'
import EntrySheet from '../components/EntrySheet.vue'

const props = defineProps<{ project: string; environment?: string; name?: string }>()
const route = useRoute()
const router = useRouter()
const table = useAsked(
  () => props.project,
  () => answered(api.GET('/api/v1/projects/{project}/table', { params: { path: { project: props.project } } }))
)
const filterField = ref<HTMLInputElement>()

// The filter stays in the address, so that a link to what one sees can be sent.
// What is typed counts at once; the address follows.
const filter = ref((route.query.filter as string | undefined) ?? '')
watch(filter, (text) => router.replace({ query: text ? { ...route.query, filter: text } : {} }))
const rows = computed(() => (table.value.value?.rows ?? []).filter((r) => r.name.toLowerCase().includes(filter.value.toLowerCase())))
const environments = computed(() => table.value.value?.environments ?? [])

function slash(e: KeyboardEvent) {
  if (e.key !== '/' || e.target instanceof HTMLInputElement) return
  e.preventDefault()
  filterField.value?.focus()
}
onMounted(() => window.addEventListener('keydown', slash))
onBeforeUnmount(() => window.removeEventListener('keydown', slash))

function close() {
  router.push({ name: 'entries', params: { project: props.project }, query: route.query })
}
</script>

<template>
  <div class="mx-auto max-w-7xl px-4 py-5">
    <div class="flex flex-wrap items-baseline justify-between gap-3">
      <h1 class="text-xl font-semibold">Entries of {{ project }}</h1>
      <label class="flex items-center gap-2 text-sm text-faded">Filter
        <input ref="filterField" v-model="filter" type="search" class="field w-56 font-mono" placeholder="part of a name ( / )" data-testid="filter" />
      </label>
    </div>
    <AnswerState :problem="table.problem.value" :slow="table.slow.value" @again="table.again" />
    <div v-if="table.value.value" class="mt-4 grid grid-cols-[minmax(0,1fr)] items-start gap-4" :class="name ? 'lg:grid-cols-[minmax(0,1fr)_minmax(0,26rem)]' : ''">
      <EntrySheet v-if="name && environment" class="lg:order-2" :project="project" :environment="environment" :name="name" @close="close" />
      <div v-if="!rows.length && !filter" class="border border-line bg-raised p-5">
        <p>{{ project }} has no entries yet. Store the first:</p>
        <code class="mt-2 block font-mono">adytum keep NAME --project {{ project }} --environment {{ environments[0]?.name ?? 'ENVIRONMENT' }}</code>
      </div>
      <p v-else-if="!rows.length" class="text-faded">No name holds “{{ filter }}”.</p>
      <EntriesTable v-else :project="project" :environments="environments" :rows="rows" :selected="name" />
    </div>
  </div>
</template>
