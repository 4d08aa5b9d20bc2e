<script setup lang="ts">
import { Listbox, ListboxButton, ListboxOption, ListboxOptions, Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { mayAudit, projects, signOut, who } from '../api/session'
import { setTheme, theme, type Theme } from '../theme'
import ProductMark from './ProductMark.vue'

const route = useRoute()
const router = useRouter()
const project = computed(() => (route.params.project as string | undefined) ?? projects.value[0]?.name)
const environment = computed(() => route.params.environment as string | undefined)
const themes: [Theme, string][] = [
  ['system', 'Light or dark as the system'],
  ['light', 'Light'],
  ['dark', 'Dark']
]

function go(to: string) {
  router.push({ name: 'entries', params: { project: to } })
}
</script>

<template>
  <header class="border-b border-line bg-raised">
    <nav class="mx-auto flex max-w-7xl flex-wrap items-center gap-x-5 gap-y-2 px-4 py-2" aria-label="Main">
      <RouterLink to="/" class="flex items-center gap-2 font-semibold"><ProductMark />Adytum</RouterLink>
      <Listbox v-if="project" :model-value="project" as="div" class="relative" @update:model-value="go">
        <ListboxButton class="field flex items-center gap-2 font-mono text-sm" data-testid="place">
          <span class="sr-only">Project: </span>{{ project }}<template v-if="environment"> / {{ environment }}</template>
          <span aria-hidden="true" class="text-faded">▾</span>
        </ListboxButton>
        <ListboxOptions class="absolute left-0 z-20 mt-1 min-w-full border border-line bg-raised py-1 text-sm">
          <ListboxOption v-for="p in projects" :key="p.name" v-slot="{ active, selected }" :value="p.name">
            <div class="flex cursor-pointer gap-2 px-3 py-1 font-mono" :class="active ? 'bg-paper' : ''">
              <span class="w-3" aria-hidden="true">{{ selected ? '✓' : '' }}</span>{{ p.name }}
            </div>
          </ListboxOption>
        </ListboxOptions>
      </Listbox>
      <RouterLink v-if="project" :to="{ name: 'entries', params: { project } }" class="py-1" active-class="here" :class="{ here: route.name === 'entry' }">Entries</RouterLink>
      <RouterLink v-if="mayAudit()" to="/trail" class="py-1" active-class="here">Trail</RouterLink>
      <Menu as="div" class="relative ml-auto">
        <MenuButton class="flex items-center gap-2 py-1" data-testid="person">{{ who?.name }} <span aria-hidden="true" class="text-faded">▾</span></MenuButton>
        <MenuItems class="absolute right-0 z-20 mt-1 w-60 border border-line bg-raised py-1 text-sm">
          <p class="border-b border-line px-3 pb-2 pt-1 text-faded">{{ who?.login }}</p>
          <MenuItem v-for="[value, word] in themes" :key="value" v-slot="{ active }">
            <button type="button" class="flex w-full gap-2 px-3 py-1.5 text-left" :class="{ 'bg-paper': active }" @click="setTheme(value)">
              <span class="w-3" aria-hidden="true">{{ theme === value ? '✓' : '' }}</span>{{ word }}
            </button>
          </MenuItem>
          <MenuItem v-slot="{ active }">
            <button type="button" class="w-full border-t border-line px-3 py-1.5 text-left" :class="{ 'bg-paper': active }" data-testid="sign-out" @click="signOut">Sign out</button>
          </MenuItem>
        </MenuItems>
      </Menu>
    </nav>
  </header>
</template>

<style scoped>
.here {
  font-weight: 600;
  box-shadow: inset 0 -2px 0 var(--verdigris);
}
</style>
