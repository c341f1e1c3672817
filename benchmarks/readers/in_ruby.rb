# Answers for Ruby's OptionParser: ruby in_ruby.rb < requests > answers (see in_python.py).
require 'json'
require 'optparse'
class Refused < StandardError; end
class Helped < StandardError; end
def checked(kind, text, of = nil)
  case kind
  when 'int' then raise Refused unless text.match?(/\A-?\d+\z/); text.to_i
  when 'choice' then raise Refused unless of.include?(text); text
  else text
  end
end
STDOUT.sync = true
STDIN.each_line do |line|
  request = JSON.parse(line)
  answers = request['vectors'].map do |vector|
    found = {}
    parser = OptionParser.new
    parser.on('-h', '--help') { raise Helped }
    request['options'].each do |option|
      kind = { 'int' => Integer, 'float' => Float, 'text' => String }[option['type']]
      kind = option['of'] if option['type'] == 'choice'
      spelled = option['spellings'].map { |each| option['type'] ? "#{each} VALUE" : each }
      parser.on(*spelled, *(kind ? [kind] : [])) { |value| found[option['name']] = value }
    end
    begin
      rest = parser.parse(vector)
      operands = request['operands']
      least = operands.count { |_, count| %w[one many].include?(count) }
      most = operands.any? { |_, count| %w[many any].include?(count) } ? 99 : operands.size
      raise Refused unless rest.size.between?(least, most)
      operands.each_with_index do |(name, count, kind), at|
        behind = operands[at + 1..].count { |_, c| %w[one many].include?(c) }
        if count == 'one' then found[name] = checked(kind, rest.shift)
        elsif count == 'optional' then found[name] = checked(kind, rest.shift) if rest.size > behind
        else
          taken = rest.shift(rest.size - behind)
          found[name] = taken.map { |each| checked(kind, each) } unless taken.empty?
        end
      end
      [0, '', found.reject { |_, each| each == false || each.nil? }]
    rescue Helped then [0, 'stdout', nil]
    rescue Refused, OptionParser::ParseError then [1, 'stderr', nil]
    end
  end
  puts JSON.generate(answers)
end
