// A button that opens a conversation over any page: <script src="https://…/talk/<path>/overlay.js" defer></script>
(() => {
  const source = document.currentScript
  const page = source.src.replace(/\/overlay\.js.*$/, '')
  const said = (name, otherwise) => source.dataset[name] || otherwise
  const place = document.createElement('div')
  const root = place.attachShadow({ mode: 'open' })
  const style = document.createElement('style')
  style.textContent = `
    button { position: fixed; right: 1rem; bottom: 1rem; z-index: 2147483000; font: 600 1rem system-ui, sans-serif; padding: .7rem 1.1rem; border-radius: 4px;
      border: 2px solid #fff; background: #2c2c2c; color: #fff; cursor: pointer }
    button:focus-visible { outline: 3px solid #2f6fb0; outline-offset: 2px }
    iframe { position: fixed; right: 1rem; bottom: 4.6rem; z-index: 2147483000; width: min(24rem, calc(100vw - 2rem)); height: min(36rem, calc(100vh - 6rem));
      border: 1px solid #777; border-radius: 4px; background: #fff }
    [hidden] { display: none }
    @media (max-width: 30rem) { iframe { right: 0; left: 0; bottom: 4.2rem; width: 100vw; height: calc(100vh - 5rem); border-radius: 0 } }`
  const button = document.createElement('button')
  button.type = 'button'
  button.textContent = said('open', 'Talk with us')
  button.setAttribute('aria-expanded', 'false')
  let frame = null
  const toggle = (open) => {
    if (open && !frame) {
      frame = document.createElement('iframe')
      frame.src = page + (source.dataset.key ? '#' + source.dataset.key : '')
      frame.title = said('open', 'Talk with us')
      root.insertBefore(frame, button)
    }
    if (frame) frame.hidden = !open
    button.textContent = open ? said('close', 'Close') : said('open', 'Talk with us')
    button.setAttribute('aria-expanded', String(open))
    if (open) frame.focus()
  }
  button.onclick = () => toggle(!frame || frame.hidden)
  place.addEventListener('keydown', (event) => event.key === 'Escape' && toggle(false))
  root.append(style, button)
  document.body.append(place)
})()
