<script setup lang="ts">
import type { Schemas } from '../api/client'
import StateMark from './StateMark.vue'

defineProps<{ project: string; environments: Schemas['Environment'][]; rows: Schemas['Row'][]; selected: string | undefined }>()

const plain = (cell: Schemas['Cell']) => (cell.kind === 'setting' && cell.state !== 'nothing' ? cell.setting : undefined)
</script>

<template>
  <div class="overflow-x-auto border border-line bg-raised" tabindex="0" role="region" aria-label="Entries across environments">
    <table class="w-full border-collapse text-sm">
      <thead>
        <tr class="border-b border-line text-left">
          <th scope="col" class="sticky left-0 bg-raised px-3 py-2 font-semibold">Name</th>
          <th v-for="e in environments" :key="e.name" scope="col" class="px-3 py-2 font-semibold">
            {{ e.name }}<span v-if="e.follows" class="font-normal text-faded"> follows {{ e.follows }}</span>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in rows" :key="row.name" class="border-b border-line last:border-0 hover:bg-paper" :class="row.name === selected ? 'bg-paper' : 'bg-raised'">
          <th scope="row" class="sticky left-0 max-w-80 min-w-44 bg-inherit px-3 py-1.5 text-left align-top font-mono font-normal break-words">{{ row.name }}</th>
          <td v-for="(cell, i) in row.cells" :key="i" class="px-3 py-1.5 align-top">
            <RouterLink
              v-if="cell.state !== 'missing'"
              :to="{ name: 'entry', params: { project, environment: environments[i]!.name, name: row.name }, query: $route.query }"
              class="block"
              :aria-label="`${row.name} in ${environments[i]!.name}`"
            >
              <StateMark :cell="cell" :environment="environments[i]!.name" />
              <span v-if="plain(cell) !== undefined" class="block max-w-48 truncate pl-[1.375rem] font-mono text-faded" :title="plain(cell)">{{ plain(cell) || '(empty)' }}</span>
              <span v-else-if="cell.kind === 'secret'" class="block pl-[1.375rem] text-faded">secret, version {{ cell.version }}</span>
            </RouterLink>
            <StateMark v-else :cell="cell" :environment="environments[i]!.name" />
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
