<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'

const props = defineProps<{ cell: Schemas['Cell']; environment: string }>()

// A state is a word and a shape, and only then a colour.
const shapes = { here: '●', followed: '◐', project: '◇', organization: '○', nothing: '∅', missing: '–', waiting: '◔', expired: '◌', destroyed: '✕' } as const
const layerName = computed(() => props.cell.layer?.split('/')[1] ?? '')
const words = computed(
  () =>
    ({
      here: 'set here',
      followed: `from ${layerName.value}`,
      project: 'from project',
      organization: 'from organization',
      nothing: 'set to nothing',
      missing: 'missing',
      waiting: 'waiting to become active',
      expired: 'expired',
      destroyed: 'destroyed'
    })[props.cell.state]
)
const colour = computed(() => (props.cell.state === 'here' ? 'text-verdigris' : ['missing', 'waiting', 'expired', 'destroyed'].includes(props.cell.state) ? 'text-ochre' : 'text-faded'))
</script>

<template>
  <span class="inline-flex items-baseline gap-1.5 whitespace-nowrap" :class="colour"><span aria-hidden="true" class="w-4 text-center">{{ shapes[cell.state] }}</span>{{ words }}</span>
</template>
