// What a page puts together of words and values is a message: say('… {1} …', value), or the
// part Says where an element stands among its words. It stands in docs/messages.md like what
// the service says. This rule finds what is put together by hand.

const inline = new Set(['strong', 'span', 'em', 'code', 'a', 'template', 'router-link', 'digesttext'])
const units = new Set(['ms', 'min', 'KiB', 'MiB', 'baud', 'px', 'mm'])
const words = (text) => (text.match(/[A-Za-z]{2,}/g) ?? []).filter((w) => !units.has(w)).length > 0
const inSentence = (text) => /[A-Za-z]{2,}[,:.;]? |[ (][A-Za-z]{2,}/.test(text) && words(text)

const directive = (el, name) => el.startTag.attributes.some((a) => a.directive && a.key.name.name === name)
const slotted = (el) => directive(el, 'slot')
const isInline = (el) => inline.has(el.name) && !slotted(el)

// values tells whether something is put into an element, or hangs on something.
function values(node) {
  if (node.type === 'VExpressionContainer') return node.expression?.type !== 'Literal'
  if (node.type !== 'VElement') return false
  return directive(node, 'if') || directive(node, 'for') || directive(node, 'else') || node.children.some(values)
}

// runs are the stretches of text, values and elements within a line.
export function runs(children) {
  const all = []
  let run = []
  const end = () => {
    if (run.length) all.push(run)
    run = []
  }
  for (let i = 0; i < children.length; i++) {
    const c = children[i]
    if (c.type !== 'VElement') {
      run.push([c])
      continue
    }
    // An element with all that stand for it where it does not.
    const chain = [c]
    for (let j = i + 1; j < children.length; j++) {
      const next = children[j]
      if (next.type === 'VText' && !next.value.trim()) continue
      if (next.type === 'VElement' && (directive(next, 'else') || directive(next, 'else-if'))) {
        chain.push(next)
        i = j
        continue
      }
      break
    }
    if (chain.every(isInline) && !directive(c, 'else') && !directive(c, 'else-if')) run.push(chain)
    else end()
  }
  end()
  const typed = ([n]) => n.type === 'VText' && n.value.trimStart().startsWith('ferry ') // a command line
  return all.filter((r) => r.length > 1 && !typed(r[0]) && r.some(([n]) => n.type === 'VText' && words(n.value)) && r.some((chain) => chain.some(values)))
}

// parts are the texts and the values of a sum, or null for a sum of numbers.
function parts(node) {
  if (node.type === 'BinaryExpression' && node.operator === '+') return [...parts(node.left), ...parts(node.right)]
  return [node]
}

// goesOn tells whether a text goes on with what stands before or behind it: it begins or ends
// within a sentence. Such a piece is chosen beside others, and none of them is a message.
export const goesOn = (text) => words(text) && (/^\s*[,;:)] ?\S|^ \(?\p{L}/u.test(text) || /[,;:(] $/.test(text))

// chooses tells whether an expression is one of several texts.
const isText = (node) => node.type === 'Literal' && typeof node.value === 'string'
export const chooses = (node) =>
  node.type === 'ConditionalExpression' ? [node.consequent, node.alternate].some((x) => (isText(x) && words(x.value)) || chooses(x)) : node.type === 'LogicalExpression' && isText(node.right) && words(node.right.value)

export default {
  rules: {
    said: {
      meta: { type: 'problem', schema: [], messages: { composed: 'Words and values are put together here: say it by say() or by Says.', chosen: 'Words are chosen for a place within a sentence: say the whole of it, once for each case.', piece: 'This is a piece of a sentence: say the whole of it, once for each case.' } },
      create(context) {
        const source = context.sourceCode
        const said = (node) => node.parent?.type === 'CallExpression' && node.parent.callee.name === 'say'
        const elsewhere = (node) => {
          // where a text is no words: an address, a class, a key, a drawing
          for (let n = node; n; n = n.parent) {
            if (n.type === 'VAttribute') return ['to', 'key', 'class', 'style', 'd', 'transform', 'href', 'src'].includes(n.key.argument?.name ?? '') || n.key.name?.name === 'for'
          }
          return false
        }
        const expressions = {
          TemplateLiteral(node) {
            const text = node.quasis.map((q) => q.value.cooked).join('{}')
            if (!node.expressions.length || said(node) || elsewhere(node) || /^(\/|ferry )/.test(text) || !inSentence(text)) return
            context.report({ node, messageId: 'composed' })
          },
          CallExpression(node) {
            if (node.callee.name !== 'say' && node.callee.name !== 'sayOf') return
            for (const put of node.arguments.slice(1)) {
              if (chooses(put)) context.report({ node: put, messageId: 'chosen' })
            }
          },
          Literal(node) {
            if (typeof node.value === 'string' && /\{\d\}\{\d\}/.test(node.value)) context.report({ node, messageId: 'piece' })
            if (typeof node.value === 'string' && goesOn(node.value) && !elsewhere(node)) context.report({ node, messageId: 'piece' })
          },
          BinaryExpression(node) {
            if (node.operator !== '+' || (node.parent.type === 'BinaryExpression' && node.parent.operator === '+') || elsewhere(node)) return
            const all = parts(node)
            if (!all.some((p) => isText(p) && inSentence(p.value)) || all.every((p) => p.type === 'Literal')) return
            context.report({ node, messageId: 'composed' })
          },
        }
        const visitor = source.parserServices.defineTemplateBodyVisitor
        const template = {
          VAttribute(node) {
            if (!node.directive && node.key.name === 'text' && /\{\d\}\{\d\}/.test(node.value?.value ?? '')) context.report({ node, messageId: 'piece' })
          },
          VText(node) {
            const el = node.parent
            if (el.type === 'VElement' && isInline(el) && goesOn(node.value) && el.children[0] === node) context.report({ node, messageId: 'piece' })
          },
          VElement(node) {
            for (const run of runs(node.children)) {
              context.report({ loc: { start: run[0][0].loc.start, end: run.at(-1).at(-1).loc.end }, messageId: 'composed' })
            }
          },
        }
        return visitor ? visitor({ ...template, ...expressions }, expressions) : expressions
      },
    },
  },
}
