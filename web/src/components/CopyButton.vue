<script setup lang="ts">
import { ref } from 'vue'

const props = defineProps<{ text: () => Promise<string> | string; label: string }>()
const said = ref('')

async function copy() {
  try {
    await navigator.clipboard.writeText(await props.text())
    said.value = 'Copied'
  } catch {
    said.value = 'Could not be copied'
  }
  setTimeout(() => (said.value = ''), 2500)
}
</script>

<template>
  <button type="button" class="act" @click="copy">
    <span aria-live="polite">{{ said || label }}</span>
  </button>
</template>
