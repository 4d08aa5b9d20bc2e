<script setup lang="ts">
import { ref } from 'vue'
import { useAsked } from '../api/asked'
import { answered, api, type Schemas } from '../api/client'
import AnswerState from '../components/AnswerState.vue'
import { exactly } from '../when'

const older = ref<Schemas['Event'][]>([])
const next = ref<string>()
const first = useAsked(
  () => 0,
  async () => {
    const page = await answered(api.GET('/api/v1/trail', { params: { query: { limit: 100 } } }))
    older.value = []
    next.value = page.next
    return page.events ?? []
  }
)
const verification = ref<Schemas['Verification']>()
const verifying = ref(false)

async function more() {
  const page = await answered(api.GET('/api/v1/trail', { params: { query: { limit: 100, cursor: next.value ?? '' } } }))
  older.value.push(...(page.events ?? []))
  next.value = page.next
}

async function verify() {
  verifying.value = true
  try {
    verification.value = await answered(api.GET('/api/v1/trail/verification'))
  } finally {
    verifying.value = false
  }
}

const shapes: Record<string, string> = { allowed: '●', refused: '✕', failed: '△', withheld: '○' }
const colours: Record<string, string> = { allowed: 'text-faded', refused: 'text-oxide', failed: 'text-ochre', withheld: 'text-faded' }

/** An answer that was not given after all is no answer; how it went on is an event of its own. */
function outcome(e: Schemas['Event']): string {
  return e.notReleased ? 'withheld' : e.outcome
}
</script>

<template>
  <div class="mx-auto max-w-7xl px-4 py-5">
    <div class="flex flex-wrap items-baseline justify-between gap-3">
      <h1 class="text-xl font-semibold">Trail</h1>
      <div class="flex flex-wrap items-center gap-3">
        <p v-if="verification" role="status" :class="verification.whole ? 'text-verdigris' : 'text-oxide'" data-testid="verification">
          <template v-if="verification.whole">✓ whole: {{ verification.events }} events in {{ verification.lanes }} lanes</template>
          <template v-else>✕ not whole: {{ verification.problems?.[0]?.lane }}, event {{ verification.problems?.[0]?.seq }}: {{ verification.problems?.[0]?.what }}</template>
        </p>
        <button type="button" class="act" :disabled="verifying" data-testid="verify" @click="verify">{{ verifying ? 'Verifying …' : 'Verify' }}</button>
        <button type="button" class="act" @click="first.again">Read anew</button>
      </div>
    </div>
    <AnswerState :problem="first.problem.value" :slow="first.slow.value" @again="first.again" />
    <div v-if="first.value.value" class="mt-4 overflow-x-auto border border-line bg-raised" tabindex="0" role="region" aria-label="Events">
      <table class="w-full border-collapse text-sm">
        <thead>
          <tr class="border-b border-line text-left">
            <th v-for="h in ['When', 'Who', 'Did', 'Outcome', 'Where', 'What', 'From']" :key="h" scope="col" class="px-3 py-2 font-semibold">{{ h }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="e in [...first.value.value, ...older]" :key="e.lane + e.seq" class="border-b border-line align-top last:border-0">
            <td class="px-3 py-1.5 whitespace-nowrap">{{ exactly(e.at) }}</td>
            <td class="px-3 py-1.5 whitespace-nowrap">{{ e.who || '(nobody)' }}</td>
            <td class="px-3 py-1.5 font-mono whitespace-nowrap">{{ e.action }}</td>
            <td class="px-3 py-1.5 whitespace-nowrap" :class="colours[outcome(e)]"><span aria-hidden="true">{{ shapes[outcome(e)] }}</span> {{ outcome(e) }}</td>
            <td class="px-3 py-1.5 font-mono">{{ e.place }}</td>
            <td class="px-3 py-1.5 font-mono break-all">{{ e.names?.join(' ') }}<span v-if="e.reason" class="block font-sans text-faded">{{ e.reason }}</span></td>
            <td class="px-3 py-1.5 font-mono">{{ e.from }}<span v-if="e.count && e.count > 1"> ×{{ e.count }}</span></td>
          </tr>
        </tbody>
      </table>
    </div>
    <button v-if="next" type="button" class="act mt-4" @click="more">Older events</button>
  </div>
</template>
