-- A session of an editor with the language server: what a user's keys would do, and
-- what came of it, as JSON. BRICKROW is the server's command, OUT where the JSON goes.
local out = {}
local function note(name, value) out[name] = value end
local function finish()
  local f = io.open(vim.env.OUT, 'w')
  f:write(vim.fn.json_encode(out))
  f:close()
  vim.cmd('qa!')
end

local function session()
  vim.cmd('edit bulletin.yaml')
  local client = vim.lsp.start_client({
    name = 'brickrow', cmd = { vim.env.BRICKROW, 'lsp' }, root_dir = vim.fn.getcwd(),
    capabilities = vim.lsp.protocol.make_client_capabilities(),
  })
  local function attach() vim.lsp.buf_attach_client(0, client) end
  attach()
  vim.wait(10000, function() return vim.lsp.get_client_by_id(client) and vim.lsp.get_client_by_id(client).initialized end)

  local function codes()
    local list = {}
    for _, d in ipairs(vim.diagnostic.get(0)) do
      table.insert(list, (d.code or d.user_data.lsp.code) .. ':' .. (d.lnum + 1))
    end
    return list
  end
  local function settle(want)
    vim.wait(15000, function() return table.concat(codes(), ' ') == want end, 30)
    return table.concat(codes(), ' ')
  end
  local function ask(method, params)
    local answers = vim.lsp.buf_request_sync(0, method, params or vim.lsp.util.make_position_params(), 10000) or {}
    for _, a in pairs(answers) do return a.result end
  end

  -- a mistake is typed: the finding comes
  local line = vim.fn.search('type: Queue')
  vim.cmd('normal! ' .. line .. 'GA')
  vim.cmd('normal! Aue')
  note('mistake', settle('unknown-type:' .. line) == 'unknown-type:' .. line)
  vim.cmd('normal! $xx')
  note('mended', settle(''))

  -- completion of a property
  vim.fn.search('type: Queue')
  vim.cmd('normal! oproperties:')
  vim.cmd('normal! o  vi')
  vim.fn.cursor(vim.fn.line('.'), vim.fn.col('$'))
  local params = vim.lsp.util.make_position_params()
  params.position.character = #vim.fn.getline('.')
  local items = ask('textDocument/completion', params)
  note('completion', (items.items or items)[1].label)
  vim.cmd('normal! u')
  vim.cmd('normal! u')
  note('undone', settle(''))

  -- hover
  vim.fn.search('  reader:')
  vim.cmd('normal! W')
  vim.fn.search('type: Server', 'c')
  vim.cmd('normal! W')
  note('hover', ask('textDocument/hover').contents.value)

  -- definition, by the editor's own command
  vim.fn.search('get_input: [a-z]', 'e')
  local name = vim.fn.expand('<cword>')
  vim.lsp.buf.definition()
  local before = vim.fn.line('.')
  vim.wait(5000, function() return vim.fn.line('.') ~= before end, 20)
  note('definition', name .. ' ' .. vim.fn.expand('<cword>') .. ' ' .. vim.trim(vim.fn.getline('.')))

  -- rename, by the editor's own command: over the template and its stack files
  vim.lsp.buf.rename(name .. '_now')
  vim.wait(5000, function() return vim.fn.getline('.'):find(name .. '_now', 1, true) ~= nil end, 20)
  note('renamed', vim.trim(vim.fn.getline('.')))
  vim.wait(300)
  local left = 0
  for _, b in ipairs(vim.api.nvim_list_bufs()) do
    for _, l in ipairs(vim.api.nvim_buf_get_lines(b, 0, -1, false)) do
      if l:find('get_input: ' .. name .. ' ', 1, true) or l:find('get_input: ' .. name .. '$') then left = left + 1 end
    end
  end
  note('left', left)
  note('after rename', settle(''))

  -- format, by the editor's own command
  vim.fn.append(vim.fn.line('$'), '  # the end')
  vim.fn.setline(1, (vim.fn.getline(1):gsub(': ', ':    ')))
  vim.lsp.buf.formatting_sync({}, 10000)
  note('formatted', vim.fn.getline(1))

  -- the stack file has its tally over the first line
  vim.cmd('wall')
  vim.cmd('edit ridge-base.stack.yaml')
  attach()
  vim.wait(5000, function()
    local lens = ask('textDocument/codeLens', { textDocument = vim.lsp.util.make_text_document_params() })
    if lens and lens[1] then note('lens', lens[1].command.title) return true end
  end, 100)
  vim.lsp.stop_client(client)
  vim.wait(1000)
end

local ok, problem = xpcall(session, debug.traceback)
if not ok then note('problem', problem) end
finish()
