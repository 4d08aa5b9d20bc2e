import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router'
import { restoreTheme } from './theme'
import './styles/main.css'

restoreTheme()
createApp(App).use(router).mount('#app')
